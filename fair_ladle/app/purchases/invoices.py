"""A vendor's invoice held against the lots of a month, line by line. Nothing of it is kept."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.foreign import amount as amount_of
from fair_ladle.app.plumbing.foreign import columns_by_name, decimal_mark
from fair_ladle.app.plumbing.problems import invalid
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Pool
from fair_ladle.app.statements.billing import parse_month
from fair_ladle.app.statements.rate_cards import decimals_of
from fair_ladle.connectors.printed import figure
from fair_ladle.connectors.sheets_in import SheetTable
from fair_ladle.core.costing import Lot, pool_cost
from fair_ladle.core.quantities import plain

MOST_LINES = 5000
NAMES = {
    "reference": ("reference", "order", "order number", "purchase order", "po", "lot"),
    "product": ("product", "item", "article", "description", "service"),
    "quantity": ("quantity", "qty", "units", "seats"),
    "amount": ("amount", "total", "net", "line total", "net amount"),
    "currency": ("currency", "ccy"),
}
"""What columns of an invoice are called, by what they are."""


@dataclass(frozen=True)
class InvoiceLine:
    """A line of the invoice (``row`` None: a lot that none of them is for) against a lot: what was invoiced and what
    was expected. ``state``: fits, differs, twice, missing, unknown or fault; ``says`` what differs."""

    row: int | None
    text: str
    lot: str | None
    product: str | None
    quantity: Decimal | None
    expected_quantity: Decimal | None
    amount: Decimal | None
    expected: Decimal | None
    currency: str
    state: str
    says: str


@dataclass(frozen=True)
class Invoice:
    """An invoice against what was bought: its columns, which of them is what, and its lines; then the lots without a
    line. No lines where it is not known which column is what."""

    header: list[str]
    columns: dict[str, int]
    lines: list[InvoiceLine]


@dataclass(frozen=True)
class _Bought:
    """A lot of a month and what it costs in it."""

    pool: Pool
    lot: Lot
    cost: Decimal


def hold(
    tx: Transaction, actor: Actor, owner: str, month: str, vendor: str, table: SheetTable, columns: dict[str, int]
) -> Invoice:
    """Hold an invoice for a month against the lots that an account owns, of one vendor (empty = of all). Reads only,
    and locks nothing."""
    accounts = accounts_service.known(tx)
    owner_id = int(accounts.ids[accounts_service.row_in_scope(accounts, actor, owner)])
    columns = {**columns_by_name(table.header, NAMES), **columns}
    columns = {what: place for what, place in columns.items() if place < len(table.header)}
    if "amount" not in columns or not {"reference", "product"} & set(columns):
        return Invoice(table.header, columns, [])
    rows: list[tuple[int, list[str]]] = []
    for number, cells in table.rows:
        if len(rows) >= MOST_LINES:
            raise invalid(f"At most {MOST_LINES:,} lines in an invoice.", "file")
        if any(cells):
            rows.append((number, [*cells, *[""] * (len(table.header) - len(cells))]))
    bought = _bought(tx, owner_id, month, vendor)
    mark = decimal_mark([cells[columns["amount"]] for _, cells in rows])
    taken: set[tuple[int, str, date]] = set()
    lines = []
    for number, cells in rows:
        line, matched = _line(number, cells, columns, mark, bought)
        if matched is not None:
            key = (matched.pool.id, matched.lot.reference, matched.lot.first_day)
            if key in taken:
                line = replace(line, state="twice", says=f"Another line is for {matched.lot.reference}.")
            taken.add(key)
        lines.append(line)
    for each in bought:
        if (each.pool.id, each.lot.reference, each.lot.first_day) not in taken and each.cost:
            lines.append(_without_line(each))
    return Invoice(table.header, columns, lines)


def _bought(tx: Transaction, owner_id: int, month: str, vendor: str) -> list[_Bought]:
    first, last = parse_month(month)
    found = []
    for pool in pools_service.pools(tx, pools_service.products(tx)):
        if pool.owner_id != owner_id or (vendor and pool.product.vendor != vendor):
            continue
        for lot in pool.lots:
            ends = lot.last_day is not None and lot.last_day < first
            if not ends and lot.first_day <= last:
                currency = lot.currency or pool.currency
                found.append(_Bought(pool, lot, pool_cost([lot], first, last, decimals_of(currency))))
    return found


def _line(
    number: int, cells: list[str], columns: dict[str, int], mark: str, bought: list[_Bought]
) -> tuple[InvoiceLine, _Bought | None]:
    def cell(what: str) -> str:
        return cells[columns[what]].strip() if what in columns else ""

    text = " ".join(each for each in (cell("reference"), cell("product")) if each)[:200]
    amount = amount_of(cell("amount"), mark)
    quantity = amount_of(cell("quantity"), mark) if cell("quantity") else None
    currency = cell("currency").upper()
    bare = InvoiceLine(number, text, None, None, quantity, None, amount, None, currency, "", "")
    if amount is None:
        return replace(bare, state="fault", says=f"{cell('amount') or 'Nothing'} is no amount."), None
    if cell("quantity") and quantity is None:
        return replace(bare, state="fault", says=f"{cell('quantity')} is no quantity."), None
    fitting = _fitting(cell("reference"), cell("product"), bought)
    if len(fitting) != 1:
        several = ", ".join(each.lot.reference for each in fitting[:5])
        says = f"It fits several lots: {several}." if fitting else "No lot of this month fits it."
        return replace(bare, state="unknown", says=says), None
    [match] = fitting
    lot_currency = match.lot.currency or match.pool.currency
    differs = []
    if currency and currency != lot_currency:
        differs.append(f"the lot is in {lot_currency}")
    if quantity is not None and quantity != match.lot.units:
        differs.append(f"{plain(quantity)} invoiced, {plain(match.lot.units)} bought")
    if amount != match.cost:
        differs.append(f"{figure(amount - match.cost)} {lot_currency} {'more' if amount > match.cost else 'less'}")
    return (
        replace(
            bare,
            lot=match.lot.reference,
            product=match.pool.product.name,
            expected_quantity=match.lot.units,
            expected=match.cost,
            currency=currency or lot_currency,
            state="differs" if differs else "fits",
            says=f"{'; '.join(differs)}." if differs else "",
        ),
        match,
    )


def _fitting(reference: str, product: str, bought: list[_Bought]) -> list[_Bought]:
    """The lots a line may be for: of its reference, of those that of its product; without one by the product alone."""

    def is_of(each: _Bought) -> bool:
        return product.lower() in (each.pool.product.code.lower(), each.pool.product.name.lower())

    if reference:
        named = [each for each in bought if each.lot.reference.lower() == reference.lower()]
        return [each for each in named if is_of(each)] or named
    return [each for each in bought if product and is_of(each)]


def _without_line(each: _Bought) -> InvoiceLine:
    return InvoiceLine(
        None,
        "",
        each.lot.reference,
        each.pool.product.name,
        None,
        each.lot.units,
        None,
        each.cost,
        each.lot.currency or each.pool.currency,
        "missing",
        "No line of the invoice is for this lot.",
    )
