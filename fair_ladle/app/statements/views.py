"""What the screen of a statement asks: its lines day by day beside another month, and the evidence of a day."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.people import service as people
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.statements.billing import BillingPeriod, parse_month
from fair_ladle.app.statements.ledger import More, Statement
from fair_ladle.app.statements.lines import Line, LineDay
from fair_ladle.app.statements.totals import costs_of
from fair_ladle.app.statements.usecases import may_see_cost, seller_as_seen, statements
from fair_ladle.app.usage import service as usage
from fair_ladle.core.calendar import MICRO, day_name, day_start, instant, month_before
from fair_ladle.core.quantities import plain
from fair_ladle.core.statement_lines import Kind, TaxStatus


@dataclass(frozen=True)
class LineView:
    """A line with its month before, split into what more or less use and what prices did; ``cost`` None where the
    reader may not see it or it is not known."""

    line: Line
    before: Decimal | None
    by_use: Decimal
    by_price: Decimal
    cost: Decimal | None
    days: tuple[LineDay, ...]


@dataclass(frozen=True)
class SheetView:
    """One statement, all of one currency, beside that of another month."""

    statement: Statement
    before: Statement | None
    lines: list[LineView]
    gone: list[Line]
    """Lines of the other month that this month does not have."""


@dataclass(frozen=True)
class StatementView:
    """A buyer's statements of a month for a screen; ``seller`` is its code, for whoever sees the seller's branch, else
    its name."""

    seller: str
    buyer: str
    period: BillingPeriod
    sheets: list[SheetView]
    unpriced: list[pools_service.Product]
    sees_cost: bool
    costs_wait: bool
    """Its costs have to be worked out of everybody's month, which was not waited for."""
    notes: list[str]
    """What a reader has to know besides: days not charged, that it is the last statement."""


def statement_view(
    tx: Transaction,
    actor: Actor,
    buyer: str,
    month: str,
    costs: bool = True,
    against: str | None = None,
    waits: bool = True,
) -> StatementView:
    """A buyer's statements, line by line and day by day, beside those of another month: the one before, if not said.
    With ``waits`` costs are worked out where they are not kept."""
    first, last = parse_month(month)
    ledger, found = statements(tx, actor, buyer, month)
    period = ledger.period(first)
    other = month_before(first) if against is None else parse_month(against)[0]
    before = {(each.seller, each.currency): each for each in ledger.statements(buyer, other)}
    sees_cost = may_see_cost(period, actor, buyer)
    charged = [line.product for each in found for line in each.lines]
    costs_by_product, costs_wait = (
        costs_of(tx, charged, first, last, buyer, waits) if costs and sees_cost else ({}, False)
    )
    sheets = []
    for statement in found:
        earlier = before.pop((statement.seller, statement.currency), None)
        lines_before = {each.product.code: each for each in earlier.lines} if earlier else {}
        lines = []
        for line in statement.lines:
            was = lines_before.pop(line.product.code, None)
            same_price = line.charge.amount if was is None else period.repriced(buyer, line.product.code, was.rate)
            lines.append(
                LineView(
                    line,
                    None if was is None else was.charge.amount,
                    same_price - (Decimal(0) if was is None else was.charge.amount),
                    line.charge.amount - same_price,
                    costs_by_product.get(line.product.code),
                    line.days or period.days_of(buyer, line.product.code),
                )
            )
        sheets.append(SheetView(statement, earlier, lines, list(lines_before.values())))
    tree = period.accounts.tree
    return StatementView(
        seller_as_seen(period.accounts, actor, period.seller_of(buyer) or ""),
        buyer,
        period,
        sheets,
        period.unpriced(buyer),
        costs and sees_cost and not costs_wait,
        costs_wait,
        _notes(tx, period, tree.row(buyer)),
    )


def with_more(tx: Transaction, actor: Actor, buyer: str, month: str, product: str, units: Sequence[int]) -> list[More]:
    """What more units (below 0: fewer) of a product would do to a buyer's statement of a month; nothing where it has no
    line with a price."""
    ledger, _ = statements(tx, actor, buyer, month)
    first, _ = parse_month(month)
    wanted, seller = pools_service.product(tx, product), ledger.period(first).seller_of(buyer)
    return [] if seller is None else ledger.with_more(seller, buyer, first, wanted.code, units)


@dataclass(frozen=True)
class Other:
    """A row of a statement that is no usage line: what it says beside its reference; what is taken off is below 0."""

    kind: str
    reference: str
    says: str
    amount: Decimal
    quantity: Decimal | None = None
    unit_price: Decimal | None = None
    base: Decimal | None = None


def others(statement: Statement, names: Mapping[str, str]) -> list[Other]:
    """Charges, discounts, adjustments, credits and taxes of a statement, in their order; ``names`` of products by
    code."""
    charges = {each.reference: each for each in statement.charges}
    discounts = {each.reference: each for each in statement.discounts}
    bases = {each.name: each.base for each in statement.composed.taxes}
    found = []
    for kind, reference, by_percent in statement.amounts():
        amount = sum(by_percent.values(), Decimal(0))
        if kind is Kind.CHARGE:
            charge = charges[reference]
            found.append(Other(kind, reference, charge.description, amount, charge.quantity, charge.unit_price))
        elif kind is Kind.TAX:
            says = {TaxStatus.REVERSE_CHARGE: "Reverse charge", TaxStatus.EXEMPT: "Exempt from tax"}
            found.append(
                Other(kind, reference, says.get(statement.tax, f"Tax {reference} %"), amount, base=bases[reference])
            )
        elif kind is Kind.DISCOUNT:
            discount = discounts[reference]
            off = names.get(discount.product, discount.product) if discount.product else "usage and charges"
            found.append(Other(kind, reference, f"{plain(discount.percent)} % off {off}", amount))
        elif kind is Kind.ADJUSTMENT:
            month, of, what = reference.split(":", 2)
            what = names.get(what, what) if of == Kind.USAGE else f"{of} {what}"
            found.append(Other(kind, reference, f"{what}, {date.fromisoformat(f'{month}-01'):%B %Y}", amount))
        elif kind is Kind.CREDIT:
            found.append(Other(kind, reference, f"Credit {reference}", amount))
    return found


def groups(statement: Statement) -> dict[str, Decimal]:
    """What a statement's rows that are no usage lines come to, by the groups in which two months are compared."""
    named = {Kind.CHARGE: "charges", Kind.ADJUSTMENT: "adjustments", Kind.TAX: "taxes"}
    found: dict[str, Decimal] = {}
    for each in others(statement, {}):
        group = named.get(Kind(each.kind), "discounts and credits")
        found[group] = found.get(group, Decimal(0)) + each.amount
    return found


def _notes(tx: Transaction, period: BillingPeriod, row: int) -> list[str]:
    """Days on which the buyer was suspended and is not charged, and whether it has been closed."""
    buyer, notes = period.accounts.tree.codes[row], []
    free = sum(
        int((~segment.charged_days(segment.accounts.tree.row(buyer))).sum())
        for each in period.products[:1]
        for segment in period.month(each.code).segments
        if buyer in segment.accounts.tree
    )
    if free:
        notes.append(f"Suspended on {free} {'day' if free == 1 else 'days'} that are not charged.")
    closed = accounts_service.closed_in(tx, period.accounts, row, period.first, period.last)
    if closed:
        notes.append(f"{period.accounts.name(row)} was closed after {day_name(closed)}: this is its last statement.")
    return notes


MOST_EVIDENCE = 500


@dataclass(frozen=True)
class Evidence:
    """What stands behind a day of a line: assignments, or samples, of the buyer's branch."""

    product: pools_service.Product
    begin: datetime
    end: datetime
    rows: list[dict[str, Any]]
    more: bool


def evidence(tx: Transaction, actor: Actor, buyer: str, product: str, day: date) -> Evidence:
    """The assignments in use on a day with their hours of it, or the samples that count on it."""
    accounts = accounts_service.around(tx, day, [buyer])
    row = accounts_service.row_in_scope(accounts, actor, buyer)
    wanted = pools_service.product(tx, product)
    zone = accounts_service.zone(tx)
    begin = instant(day_start(day, zone) * MICRO)
    end = instant(day_start(day + timedelta(days=1), zone) * MICRO)
    if end > tx.now:
        raise not_found("reading of a day that has not ended,", day.isoformat())
    pools = pools_service.pools(tx, [wanted])
    owners = {pool.owner_id for pool in pools}
    tree = accounts.tree
    rows_here, outside = [], set()
    for each in tree.branch(row).tolist():
        nested = each != row and int(accounts.ids[each]) in owners
        if nested or int(tree.parent[each]) in outside:
            outside.add(each)
        else:
            rows_here.append(each)
    found = usage.evidence(tx, wanted, [int(accounts.ids[each]) for each in rows_here], begin, end, MOST_EVIDENCE + 1)
    more = len(found) > MOST_EVIDENCE
    rows, whose = [], _Whose(tx, actor, wanted, found[:MOST_EVIDENCE])
    for each in found[:MOST_EVIDENCE]:
        place = accounts.row_of_id[each.account_id]
        shared = {"account": tree.codes[place], "account_name": accounts.name(place)} | whose.told(each)
        if wanted.is_storage:
            rows.append(
                shared | {"what": each.category, "from": each.at.isoformat(), "to": None, "figure": str(each.bytes)}
            )
        else:
            used = min(each.ends or end, end) - max(each.begins, begin)
            rows.append(
                shared
                | {
                    "what": each.subject,
                    "from": each.begins.isoformat(),
                    "to": each.ends.isoformat() if each.ends else None,
                    "figure": str(int(used.total_seconds())),
                }
            )
    return Evidence(wanted, begin, end, rows, more)


class _Whose:
    """Says of assignments and samples whose they are: by name, and of what kind the bytes of a sample are now."""

    def __init__(self, tx: Transaction, actor: Actor, product: pools_service.Product, rows: Sequence[Any]):
        self.is_storage = product.is_storage
        self.accounts, self.actor = accounts_service.known(tx), actor
        names = {name for kind, name in map(self._holder, rows) if kind == "person"}
        self.people = people.by_username(tx, sorted(names)) if product.is_storage or product.measure == "seat" else {}

    def _holder(self, row: Any) -> tuple[str, str]:
        return usage.holder_of(row.category) if self.is_storage else ("person", row.subject)

    def told(self, row: Any) -> dict[str, str | None]:
        """``name`` of who is in sight, and ``whose`` a sample's bytes are."""
        kind, name = self._holder(row)
        person = self.people.get(name) if kind == "person" else None
        seen = person is not None and accounts_service.sees(self.accounts, self.actor, person.account_id)
        whose = None
        if self.is_storage:
            is_here = person is not None and person.account_id == row.account_id and person.status != "removed"
            whose = {"person": "personal" if is_here else "left behind", "folder": "shared"}.get(kind, "other")
        return {"name": person.display_name if person is not None and seen else None, "whose": whose}
