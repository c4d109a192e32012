"""Mails are written in the transaction of what they tell, and sent after it, outside of any."""

from __future__ import annotations

import logging
from collections.abc import Callable, Sequence
from datetime import timedelta
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Database, Transaction, batched
from fair_ladle.app.plumbing.tables import outbox
from fair_ladle.connectors.mail import Enclosure

logger = logging.getLogger("fair_ladle")
TRY_AGAIN = (timedelta(minutes=1), timedelta(minutes=10), timedelta(hours=1), timedelta(hours=6), timedelta(days=1))
TAKEN_FOR = timedelta(minutes=5)
"""Within this a mail that was taken to be sent is sent, or its server is gone."""
NOT_KNOWN = "The server stopped while this was being sent; it is not sent again."
AT_ONCE = 1000
Deliver = Callable[[str, str, str, Sequence[Enclosure]], None]
Enclose = Callable[[Database, str], Sequence[Enclosure]]
"""Makes what a mail says it encloses."""


def write(tx: Transaction, to_address: str, subject: str, body: str) -> None:
    """A mail that goes out once the transaction is kept."""
    write_all(tx, [(to_address, subject, body)])


def write_all(tx: Transaction, mails: Sequence[tuple[str, str, str]]) -> None:
    """Mails (address, subject, text) that go out once the transaction is kept."""
    if tx.is_rehearsal:
        return
    now = tx.now
    rows = [
        {"to_address": address, "subject": subject[:255], "body": body, "written_at": now, "due_at": now}
        for address, subject, body in mails
    ]
    if rows:
        tx.connection.execute(sa.insert(outbox), rows)


def write_enclosing(tx: Transaction, mails: Sequence[tuple[str, str, str, str]]) -> list[int]:
    """Mails (address, subject, text, what is enclosed) that go out once the transaction is kept; their numbers. They
    may be many: others do not wait for them."""
    now = tx.now
    ids: list[int] = []
    rows = [
        {
            "to_address": address,
            "subject": subject[:255],
            "body": body,
            "encloses": encloses,
            "written_at": now,
            "due_at": now,
            "bulk": True,
        }
        for address, subject, body, encloses in mails
    ]
    written = sa.insert(outbox).returning(outbox.c.id, sort_by_parameter_order=True)
    for part in batched(rows, AT_ONCE):
        ids += tx.connection.scalars(written, part).all()
    return ids


def send(
    database: Database,
    deliver: Deliver,
    going_on: Callable[[], bool] = lambda: True,
    enclose: Enclose = lambda database, what: (),
    bulk: bool | None = None,
) -> int:
    """Send what is due: mails of bulk, the others, or (None) all. One that fails is tried again later. How many were
    sent.

    Each is taken in a transaction of its own, handed in outside of any, and noted in another: a slow relay holds no
    lock, and a commit that was lost sends nothing twice. Once it is sent its text, with the links in it, is forgotten.
    """
    database.run(_give_up_on_unknown)
    sent = 0
    while going_on() and (row := database.run(_take, bulk)) is not None:
        try:
            enclosed = () if row.encloses is None else enclose(database, row.encloses)
        except Exception as broken:  # one document's bug must not hold back the other mails
            logger.exception("enclosing %s", row.encloses)
            database.run(_failed, row, OSError(f"Its document could not be made: {broken}"))
            continue
        try:
            deliver(row.to_address, row.subject, row.body, enclosed)
        except (OSError, ValueError) as trouble:  # ValueError: no mail can be written to that address at all
            database.run(_failed, row, trouble)
        else:
            database.run(_sent, row)
            sent += 1
    return sent


def _take(tx: Transaction, bulk: bool | None) -> Any | None:
    now = tx.now
    which = outbox.c.bulk.in_((False, True)) if bulk is None else outbox.c.bulk == bulk
    for row in tx.connection.execute(
        sa.select(outbox).where(which, outbox.c.due_at <= now).order_by(outbox.c.due_at, outbox.c.id).limit(10)
    ):
        mine = sa.update(outbox).where(outbox.c.id == row.id, outbox.c.due_at == row.due_at)
        if tx.connection.execute(mine.values(due_at=None, taken_at=now, tries=row.tries + 1)).rowcount == 1:
            return row
    return None


def _sent(tx: Transaction, row: Any) -> None:
    values = {"taken_at": None, "sent_at": tx.now, "trouble": None, "body": ""}
    tx.connection.execute(sa.update(outbox).where(outbox.c.id == row.id).values(**values))


def _failed(tx: Transaction, row: Any, trouble: Exception) -> None:
    later = isinstance(trouble, OSError) and row.tries < len(TRY_AGAIN)
    again = tx.now + TRY_AGAIN[row.tries] if later else None
    values = {"taken_at": None, "due_at": again, "trouble": str(trouble)[:2000]} | ({} if later else {"body": ""})
    tx.connection.execute(sa.update(outbox).where(outbox.c.id == row.id).values(**values))


def _give_up_on_unknown(tx: Transaction) -> None:
    old = sa.select(outbox.c.id).where(outbox.c.taken_at < tx.now - TAKEN_FOR)
    for mail_id in list(tx.connection.scalars(old)):
        values = {"taken_at": None, "trouble": NOT_KNOWN, "body": ""}
        tx.connection.execute(sa.update(outbox).where(outbox.c.id == mail_id).values(**values))


def forget(tx: Transaction, to_address: str) -> None:
    """Drop the mails to an address, sent or not."""
    for each in tx.connection.scalars(sa.select(outbox.c.id).where(outbox.c.to_address == to_address)).all():
        tx.connection.execute(sa.delete(outbox).where(outbox.c.id == each))
