"""Closing a month: what stands in the way, numbering without gaps, and what is kept of it for good."""

from __future__ import annotations

import hashlib
from collections import deque
from collections.abc import Iterator, Mapping, Sequence
from concurrent.futures import Executor, Future, ThreadPoolExecutor
from dataclasses import dataclass, replace
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import conflict, invalid, not_found
from fair_ladle.app.statements import closed_store
from fair_ladle.app.statements.billing import BillingPeriod, Progress, parse_month
from fair_ladle.app.statements.kept_books import KeptBook, packed, packed_book, unpacked
from fair_ladle.app.statements.ledger import (
    Statement,
    is_made_of_other_facts,
    month_made_of,
    numbered,
    statement_adapter,
    taxed_text,
)
from fair_ladle.app.statements.months import is_settled
from fair_ladle.app.statements.months_ledger import ClosingLedger, MonthsLedger
from fair_ladle.app.statements.particulars import details, particulars
from fair_ladle.app.statements.seller_months import buyers_of
from fair_ladle.app.statements.totals import refuse_unless_kept
from fair_ladle.app.statements.working_out import work_out
from fair_ladle.core.calendar import day_name, month_after
from fair_ladle.core.statement_lines import Kind, TaxStatus

PACKING = 2
"""Threads that pack documents while others are made."""
PACKED_AHEAD = 256
"""So many are packed while others are written."""
JUMP = Decimal("0.5")
"""A total that differs by more than this part of the month before is pointed out."""


@dataclass(frozen=True)
class Finding:
    """Something that stands in the way of closing (``blocks``), or that has to be acknowledged with a reason; the buyer
    (code) it is about, if it is about one."""

    blocks: bool
    says: str
    buyer: str | None = None


@dataclass(frozen=True)
class Prepared:
    """A month as it would be closed."""

    seller: str
    first: date
    findings: tuple[Finding, ...]
    statements: tuple[Statement, ...]
    book: KeptBook
    made_of: str
    settled: dict[date, str]
    """What closed months before are made of now, as far as that is something else."""
    closed_until: date | None

    @property
    def blocking(self) -> list[Finding]:
        """What stands in the way."""
        return [each for each in self.findings if each.blocks]

    def totals(self) -> list[tuple[str, int, Decimal]]:
        """By currency, how many statements there are and what they come to with tax."""
        found: dict[str, tuple[int, Decimal]] = {}
        for each in self.statements:
            count, total = found.get(each.currency, (0, Decimal(0)))
            found[each.currency] = (count + 1, total + each.total)
        return [(currency, count, total) for currency, (count, total) in sorted(found.items())]

    def digest(self) -> str:
        """While it stays the same, so do the findings and what every statement comes to."""
        totals = [(each.buyer, each.currency, f"{each.total:f}") for each in self.statements]
        said = [(each.says, each.buyer) for each in self.findings]
        return hashlib.sha256(repr((totals, said)).encode()).hexdigest()


def prepare(
    tx: Transaction, actor: Actor, seller: str, month: str, progress: Progress = lambda done, total: None
) -> Prepared:
    """A seller's month as it comes out now, with everything that stands in the way of closing it, and the lines of its
    statements. For whoever runs the seller, or an account above it; reads only, and locks nothing. ``progress`` hears
    of how many buyers it has gone through."""
    return _looked_at(tx, actor, seller, month, ClosingLedger(tx, parse_month(month)[0]), progress)


def look(tx: Transaction, actor: Actor, seller: str, month: str) -> Prepared:
    """The same without the lines, from what months are kept to come to; refused while that of a large installation is
    not kept."""
    first, _ = parse_month(month)
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, seller)
    ledger = MonthsLedger(tx)
    if seller not in ledger.period(first).rate_cards.sellers:
        # What is had of a seller without any rate is not kept: it is read from its branch, and whose it once was.
        former = closed_store.buyers_of(tx.connection, int(accounts.ids[row]))
        once = [accounts.tree.codes[accounts.row_of_id[each]] for each in former if each in accounts.row_of_id]
        return _looked_at(tx, actor, seller, month, ClosingLedger(tx, first, [seller, *once]))
    refuse_unless_kept(tx, accounts, first, sees_all=accounts_service.top_row(accounts, actor) == 0)
    return _looked_at(tx, actor, seller, month, ledger)


def _looked_at(
    tx: Transaction,
    actor: Actor,
    seller: str,
    month: str,
    ledger: MonthsLedger,
    progress: Progress = lambda done, total: None,
) -> Prepared:
    first, last = parse_month(month)
    accounts = accounts_service.known(tx)
    seller_row = accounts_service.row_in_scope(accounts, actor, seller)
    closed_until = closed_store.closed_until(tx.connection, int(accounts.ids[seller_row]))
    made_of = month_made_of(tx, first)
    findings = _of_the_month(tx, first, last, closed_until, accounts.name(seller_row))
    period = ledger.period(first)
    if seller not in period.accounts.tree:
        raise not_found("seller in that month", seller)
    buyers = buyers_of(tx, ledger, period, seller)
    if ledger.has_lines_of(first):
        work_out(tx, period, seller, buyers, progress)
    statements = [each for buyer in buyers for each in ledger.of_seller(seller, buyer, first)]
    findings += _of_lines(period, ledger, seller, statements)
    findings += _of_tax(period, seller, statements)
    findings += _of_buyers(tx, ledger, period, seller, buyers, statements)
    months = {each: made for each, made in ledger.closed.get(seller, {}).items() if each < first}
    settled = {each: month_made_of(tx, each) for each, made in months.items() if is_made_of_other_facts(tx, each, made)}
    book = KeptBook(period.rate_cards.of_seller(seller), period.terms(seller))
    return Prepared(seller, first, tuple(findings), tuple(statements), book, made_of, settled, closed_until)


def _of_the_month(tx: Transaction, first: date, last: date, closed_until: date | None, name: str) -> list[Finding]:
    found = []
    if closed_until is not None and first <= closed_until:
        found.append(Finding(True, f"{first:%B %Y} of {name} is closed already."))
    elif closed_until is not None and first != month_after(closed_until):
        found.append(Finding(True, f"Months close in order: {month_after(closed_until):%B %Y} of {name} comes next."))
    if last >= accounts_service.today(tx):
        found.append(
            Finding(True, f"{first:%B %Y} is not over; it can be closed from {day_name(last + timedelta(days=1))} on.")
        )
    elif not is_settled(tx, first, last):
        found.append(Finding(True, f"The last day of {first:%B %Y} is still being read; try again in a minute."))
    return found


def _of_lines(period: BillingPeriod, ledger: MonthsLedger, seller: str, statements: list[Statement]) -> list[Finding]:
    """Markups without a cost, and costs that no exchange rate turns into the line's currency."""
    found: dict[str, Finding] = {}
    above = period.seller_of(seller)
    name = period.accounts.name(period.accounts.tree.row(seller))
    for statement in statements:
        has_lines = any(each.kind is Kind.USAGE for each in statement.composed.owed)
        currency = statement.currency
        for line in ledger.sold(period, statement.buyer, currency) if has_lines else ():
            product, buyer = line.product, statement.buyer
            owns = period.owns_pool(seller, product.code)
            if not owns and not ledger.is_charged(period, seller, product.code):
                if line.rate.markup is not None:
                    says = f"{product.name} is sold at a markup, and {name} itself is charged nothing for it."
                    found.setdefault(says, Finding(True, says, buyer))
                continue
            if not line.has_cost:
                says = (
                    f"There is no exchange rate into {currency} up to {day_name(period.last)} "
                    f"for what {product.name} cost."
                )
                found.setdefault(says, Finding(True, says, buyer))
            if line.rate.markup is not None and not owns and above and period.first not in ledger.closed.get(above, {}):
                says = f"{product.name} is sold at a markup on what {name} is charged: that month closes first."
                found.setdefault(says, Finding(True, says, buyer))
    return list(found.values())


def _of_tax(period: BillingPeriod, seller: str, statements: list[Statement]) -> list[Finding]:
    """Tax classes that are named and have no percentage."""
    terms = period.terms(seller)
    missing: dict[str, tuple[str, str]] = {}
    names = {each.code: each.name for each in period.products}
    for statement in statements:
        usage = [each.reference for each in statement.composed.owed if each.kind is Kind.USAGE]
        named = {terms.tax_classes.get(each): names[each] for each in usage}
        named |= {each.tax_class: each.description or each.reference for each in statement.charges}
        for tax_class, what in named.items():
            if tax_class and statement.tax is TaxStatus.NORMAL and terms.percent(tax_class, period.last) is None:
                missing.setdefault(tax_class, (what, statement.buyer))
    return [
        Finding(True, f"Tax class {name} of {what} has no percentage by {day_name(period.last)}.", buyer)
        for name, (what, buyer) in sorted(missing.items())
    ]


def _of_buyers(
    tx: Transaction,
    ledger: MonthsLedger,
    period: BillingPeriod,
    seller: str,
    buyers: list[str],
    statements: list[Statement],
) -> list[Finding]:
    """What has to be acknowledged: products without a price, buyers without a billing contact, adjustments, jumps."""
    accounts, found = period.accounts, []
    billed = {each.buyer for each in statements}
    before = {
        (row.buyer, row.currency): row.total
        for row in closed_store.totals_of(tx.connection, (period.first - timedelta(days=1)).replace(day=1))
        if row.seller == seller
    }
    for buyer in buyers:
        row = accounts.tree.row(buyer)
        name = accounts.name(row)
        if accounts.tree.codes[int(accounts.tree.parent[row])] == seller:
            unpriced = ", ".join(each.name for each in ledger.unpriced(period, buyer))
            if unpriced:
                found.append(Finding(False, f"{name} has no price for {unpriced}.", buyer))
        if buyer in billed and not accounts.facts[row].billing_email:
            found.append(Finding(False, f"{name} has no billing contact.", buyer))
    for statement in statements:
        name = accounts.name(accounts.tree.row(statement.buyer))
        late = [each for each in statement.composed.owed if each.kind is Kind.ADJUSTMENT]
        if late:
            amount = sum((each.amount for each in late), Decimal(0))
            says = f"{name} is adjusted by {amount:+f} {statement.currency} for months that are closed."
            found.append(Finding(False, says, statement.buyer))
        was = before.get((statement.buyer, statement.currency))
        if was and abs(statement.total - was) > abs(was) * JUMP:
            part = (statement.total - was) / abs(was) * 100
            found.append(Finding(False, f"{name} comes to {part:+.0f} % of the month before.", statement.buyer))
    return found


def close(tx: Transaction, actor: Actor, prepared: Prepared, reason: str) -> list[Statement]:
    """Close a month as it was prepared: number its statements, and keep them for good.

    Locks the seller's row of numbers alone, and judges under it that nothing was closed since the month was prepared:
    closing it twice at once is refused. A fact that comes after it was prepared is what a late fact always is: it
    adjusts the first month that is open then.
    """
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, prepared.seller)
    if prepared.blocking:
        says = " ".join(each.says for each in prepared.blocking)
        raise conflict(says, findings=[each.says for each in prepared.blocking])
    if prepared.findings and not reason.strip():
        raise invalid("Say why what was found may pass.", "reason")
    seller_id, today = int(accounts.ids[row]), accounts_service.today(tx)
    numbers = closed_store.lock_numbers(tx.connection, seller_id)
    if numbers.closed_until != prepared.closed_until:
        raise conflict(f"{prepared.first:%B %Y} of {accounts.name(row)} was closed just now.")
    number = int(numbers.number) if numbers.year == today.year else 0
    ids = accounts_service.ids_by_code(tx, {prepared.seller, *(each.buyer for each in prepared.statements)})
    of = details(tx.connection, ids)
    closed = []
    for statement in prepared.statements:
        number += 1
        names = accounts_service.names(accounts, statement.accounts())
        mine = particulars(of[prepared.seller], of[statement.buyer], today, names)
        closed.append(replace(statement, number=numbered(today.year, number), particulars=mine))
    kept, digest = packed_book(prepared.book)
    period = {
        "seller_id": seller_id,
        "first_day": prepared.first,
        "closed_at": tx.now,
        "closed_by": actor.name,
        "reason": reason.strip()[:2000],
        "kept": kept,
        "made_of": prepared.made_of,
        "hash": digest,
    }
    with ThreadPoolExecutor(PACKING) as packing:
        rows = _rows(closed, seller_id, ids, today.year, number - len(closed), packing)
        closed_store.write_closed(tx.connection, period, today.year, number, rows, prepared.settled)
    generations.renew(tx, "closings")
    said = {"month": f"{prepared.first:%Y-%m}", "statements": str(len(closed)), "reason": reason.strip()[:500]}
    entry = log_service.Entry("month closed", prepared.seller, seller_id, None, said)
    log_service.write(tx, actor, seller_id, [entry])
    return closed


def _rows(
    closed: Sequence[Statement], seller_id: int, ids: Mapping[str, int], year: int, before: int, packing: Executor
) -> Iterator[closed_store.Closed]:
    """Statements with their documents and lines as they are written, numbered in a year after ``before``. Some
    documents are packed ahead while others are written."""
    ahead = deque[tuple[dict[str, Any], Future[tuple[bytes, str]], Statement]]()

    def first() -> closed_store.Closed:
        values, packing_it, statement = ahead.popleft()
        document, digest = packing_it.result()
        return {**values, "document": document, "hash": digest}, _kept_lines(statement)

    for number, statement in enumerate(closed, start=before + 1):
        assert statement.particulars is not None
        values = {
            "seller_id": seller_id,
            "buyer_id": ids[statement.buyer],
            "first_day": statement.first,
            "currency": statement.currency,
            "year": year,
            "number": number,
            "tax": statement.tax.value,
            "net": statement.composed.net,
            "total": statement.total,
            "due_day": statement.particulars.due,
        }
        # What packs it leaves the interpreter to others.
        ahead.append((values, packing.submit(packed, statement_adapter.dump_json(statement)), statement))
        if len(ahead) > PACKED_AHEAD:
            yield first()
    while ahead:
        yield first()


def _kept_lines(statement: Statement) -> list[dict[str, object]]:
    return [
        {
            "place": place,
            "kind": kind.value,
            "reference": reference,
            "amount": sum(by_percent.values(), Decimal(0)),
            "taxed": taxed_text(by_percent),
        }
        for place, (kind, reference, by_percent) in enumerate(statement.amounts())
    ]


def differences(tx: Transaction) -> list[tuple[str, str, str, str]]:
    """Closed statements that do not agree with themselves, their hash or their numbers: (what, where, found,
    evidence)."""
    found = [each for part in _statements_wrong(tx) for each in part]
    for row in closed_store.every_book(tx.connection):
        digest = unpacked(row.kept)[1]
        if digest != row.hash:
            found.append(("closed month", f"{row.seller} {row.first_day:%Y-%m}", row.hash, digest))
    for given in closed_store.given_numbers(tx.connection):
        if (given.first, given.last) != (1, given.count):
            found.append(
                (
                    "statement numbers",
                    f"{given.code} {given.year}",
                    f"{given.count} from {given.first} to {given.last}",
                    f"1 to {given.count}",
                )
            )
    return found


def _statements_wrong(tx: Transaction) -> Iterator[list[tuple[str, str, str, str]]]:
    after = 0
    while rows := closed_store.every_statement(tx.connection, after, 500):
        after = rows[-1].id
        lines = closed_store.lines_by_statement(tx.connection, [row.id for row in rows])
        for row in rows:
            where = f"{row.seller} {numbered(row.year, row.number)}"
            json, digest = unpacked(row.document)
            wrong = [] if digest == row.hash else [("closed statement", where, row.hash, digest)]
            statement = statement_adapter.validate_json(json)
            if (row.total, row.net) != (statement.total, statement.composed.net):
                wrong.append(("statement total", where, f"{row.total:f}", f"{statement.total:f}"))
            kept = [(each.kind, each.reference, each.amount) for each in lines[row.id]]
            summed = [(each["kind"], each["reference"], each["amount"]) for each in _kept_lines(statement)]
            if kept != summed:
                wrong.append(("statement lines", where, str(len(kept)), str(len(summed))))
            for line in statement.lines:
                parts = sum((each.amount for each in line.shares), Decimal(0))
                if parts != line.charge.amount:
                    wrong.append(
                        ("parts of a line", f"{where} {line.product.code}", f"{parts:f}", f"{line.charge.amount:f}")
                    )
            yield wrong
