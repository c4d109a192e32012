"""A month of all buyers worked out a product at a time: by two, where there is much to do and another core."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import closing
from datetime import date, datetime

from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.shared_work import has_another_core, shared_out
from fair_ladle.app.statements.billing import BillingPeriod, Progress, WorkedOut
from fair_ladle.app.statements.ledger import Ledger, month_made_of
from fair_ladle.app.statements.totals import is_large


def work_out(tx: Transaction, period: BillingPeriod, seller: str, buyers: Sequence[str], progress: Progress) -> None:
    """Work out what a seller's buyers are charged, with the days of their lines; nothing else that was read is kept.

    A process beside has a connection and an instant of its own. It takes part where all that a month is made of is the
    same for it: else it would charge by other facts.
    """
    # First what takes longest, so that nobody waits for it at the end.
    products = [each.code for each in sorted(period.products, key=lambda each: not each.is_storage)]
    found = list[WorkedOut]()

    def told(done: int = 0, total: int = 0) -> None:
        progress((len(found) * len(buyers) + done) // len(products), len(buyers))

    def here(product: str) -> WorkedOut:
        return period.work_out(seller, buyers, product, told)

    if is_large(period.accounts) and has_another_core():
        url = tx.connection.engine.url.render_as_string(hide_password=False)
        asked = (url, tx.now, period.first, _facts(tx, period.first), seller, buyers)
        each_product = shared_out(products, here, _beside, asked, told)
    else:
        each_product = (here(each) for each in products)
    with closing(each_product):
        for each in each_product:
            found.append(each)
            told()
    period.take(buyers, found)


def _facts(tx: Transaction, first: date) -> str:
    """While it stays the same, so do lines of a month that is over."""
    return f"{month_made_of(tx, first)} {generations.numbers(tx, 'structure', 'rates', 'closings')}"


def _beside(
    products: Iterator[str], url: str, at: datetime, first: date, facts: str, seller: str, buyers: Sequence[str]
) -> Iterator[WorkedOut]:
    database = Database(url, pool_size=1)
    database.clock.set_to(at)
    return database.stream(_each_product, products, first, facts, seller, buyers)


def _each_product(
    tx: Transaction, products: Iterator[str], first: date, facts: str, seller: str, buyers: Sequence[str]
) -> Iterator[WorkedOut]:
    if _facts(tx, first) != facts:
        return
    period = Ledger(tx).period(first)
    for product in products:
        yield period.work_out(seller, buyers, product, lambda done, total: None)
