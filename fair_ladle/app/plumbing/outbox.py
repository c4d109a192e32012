"""Mails are written in the transaction of what they tell, and sent after it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import timedelta

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.tables import outbox

AT_ONCE = 100
TRY_AGAIN = (timedelta(minutes=1), timedelta(minutes=10), timedelta(hours=1), timedelta(hours=6), timedelta(days=1))


def write(tx: Transaction, to_address: str, subject: str, body: str) -> None:
    """A mail that goes out once the transaction is kept."""
    write_all(tx, [(to_address, subject, body)])


def write_all(tx: Transaction, mails: Sequence[tuple[str, str, str]]) -> None:
    """Mails (address, subject, text) that go out once the transaction is kept."""
    now = tx.now
    rows = [
        {"to_address": address, "subject": subject[:255], "body": body, "written_at": now, "due_at": now}
        for address, subject, body in mails
    ]
    if rows:
        tx.connection.execute(sa.insert(outbox), rows)


def send(database: Database, deliver: Callable[[str, str, str], None]) -> int:
    """Send what is due, each mail in a transaction of its own; one that fails is tried again later. How many were
    sent."""
    sent = 0
    for _ in range(AT_ONCE):
        outcome = database.run(_send_one, deliver)
        if outcome is None:
            break
        sent += outcome
    return sent


def _send_one(tx: Transaction, deliver: Callable[[str, str, str], None]) -> int | None:
    now = tx.now
    row = tx.connection.execute(
        sa.select(outbox)
        .where(outbox.c.due_at <= now)
        .order_by(outbox.c.due_at, outbox.c.id)
        .limit(1)
        .with_for_update(skip_locked=True)
    ).first()
    if row is None:
        return None
    try:
        deliver(row.to_address, row.subject, row.body)
    except (OSError, ValueError) as trouble:  # ValueError: no mail can be written to that address at all
        again = now + TRY_AGAIN[row.tries] if isinstance(trouble, OSError) and row.tries < len(TRY_AGAIN) else None
        tx.connection.execute(
            sa.update(outbox)
            .where(outbox.c.id == row.id)
            .values(due_at=again, tries=row.tries + 1, trouble=str(trouble)[:2000])
        )
        return 0
    tx.connection.execute(
        sa.update(outbox)
        .where(outbox.c.id == row.id)
        .values(due_at=None, sent_at=now, tries=row.tries + 1, trouble=None)
    )
    return 1
