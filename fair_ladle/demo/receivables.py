"""What becomes of the demo's closed statements: sent, paid for the most part, and asked about."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta
from decimal import Decimal

from fair_ladle.app.plumbing import outbox
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.receivables import listing, payments, questions, sending
from fair_ladle.app.receivables.payments import Paid
from fair_ladle.connectors.mail import Enclosure

SLOW = frozenset({"MARROW", "FENWICK"})
"""Who has not paid September."""


def sent(database: Database, seller: Actor) -> None:
    """Send what is closed, long ago: these mails have gone out already."""
    database.run(sending.send, seller, seller.scope, None, None)
    outbox.send(database, _gone)


def _gone(to_address: str, subject: str, body: str, enclosures: Sequence[Enclosure]) -> None:
    """What was sent before the demo begins is in nobody's mailbox."""


def paid(database: Database, seller: Actor, month: str, but: frozenset[str]) -> None:
    """Everybody pays a month, some days apart, but for these."""
    found = database.snapshot(listing.receivables, seller, seller.scope, "open", month, "")
    day = database.clock.now().date()
    rows = [each for each in found.rows if each.buyer not in but]
    database.run(
        payments.record,
        seller,
        seller.scope,
        [
            Paid(each.number, each.open, day - timedelta(days=place % 3), "Bank transfer")
            for place, each in enumerate(rows)
        ],
    )


def paid_in_part(database: Database, seller: Actor, buyer: str, month: str, amount: Decimal) -> None:
    """One pays a part."""
    found = database.snapshot(listing.receivables, seller, seller.scope, None, month, buyer)
    one = Paid(found.rows[0].number, amount, database.clock.now().date(), "First instalment, as agreed")
    database.run(payments.record, seller, seller.scope, [one])


def asked(database: Database, buyer: Actor, month: str, line: tuple[str, str], text: str) -> int:
    """Somebody asks about a line."""
    assert buyer.scope is not None
    [life] = database.snapshot(listing.lives, buyer, buyer.scope, month)
    return int(database.run(questions.ask, buyer, buyer.scope, month, life.receivable.number, line, text))


def answered(database: Database, seller: Actor, question: int, text: str, credit: Decimal | None = None) -> None:
    """And is answered."""
    database.run(questions.answer, seller, seller.scope, question, text, credit)
