"""What a seller charges, gives off and taxes besides its prices, and exchange rates: a row at a time or a file of them,
cells as an intake has them and checked the same way."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.data_import.checks import OF_BUYER, Checks, There
from fair_ladle.app.data_import.formats import FORMATS
from fair_ladle.app.data_import.reading import parse
from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.merge import Merged
from fair_ladle.app.plumbing.problems import conflict, invalid, not_allowed, not_found
from fair_ladle.app.pools import service as pools
from fair_ladle.app.statements import terms
from fair_ladle.app.statements.rate_cards import RateCards
from fair_ladle.connectors.sheets_in import Fault, SheetTable, Source
from fair_ladle.core.quantities import plain

EXCHANGE = "exchange_rates"
COLUMNS = {table: tuple(each.name for each in FORMATS[table] if each.name != "seller") for table in terms.KEYS}
"""The cells of each table, without the seller."""
_CELLS = {"buyer_id": "buyer", "of": "from", "into": "to"}
KEYS = {
    table: tuple(_CELLS.get(name, name) for name in key if name != "seller_id") for table, key in terms.KEYS.items()
}
"""Which of them name a row."""
RENAMED = {"from": "of", "to": "into"}
NAMED = ("seller", "buyer", "product")
AT_ONCE = 1000
"""Rows read at once of all."""
Cells = dict[str, str]


@dataclass(frozen=True)
class Listed:
    """Rows of a table as cells, how many there are in all, and what the buyers in them are called."""

    total: int
    rows: list[Cells]
    names: dict[str, str]


class _Told:
    """A seller's rows of a table, as whoever runs it or an account above it is told them."""

    def __init__(self, tx: Transaction, actor: Actor, seller: str, table: str, find: str):
        if table not in COLUMNS:
            raise not_found("table of terms", table)
        self.tx, self.actor, self.table = tx, actor, table
        self.accounts = accounts_service.known(tx)
        row = accounts_service.row_in_scope(self.accounts, actor, seller)
        seller_id = None if table == EXCHANGE else int(self.accounts.ids[row])
        top = accounts_service.top_row(self.accounts, actor)
        self.asked = terms.TermsAsked(table, seller_id, self.accounts, top, find.split()[:10])
        # Exchange rates are told to whoever has prices of its own, which they count for, and to the operator.
        self.are_told = table != EXCHANGE or row == 0 or seller in RateCards(tx, self.accounts).sellers
        self.products = {each.id: each.code for each in pools.products(tx)}

    def count(self) -> int:
        return terms.count(self.tx, self.asked) if self.are_told else 0

    def rows(self, offset: int, limit: int) -> list[Cells]:
        if not self.are_told:
            return []
        found = terms.rows_of(self.tx, self.asked, offset, limit)
        return [{name: self._cell(name, row) for name in COLUMNS[self.table]} for row in found]

    def _cell(self, name: str, row: Any) -> str:
        if name == "buyer":
            return self.accounts.tree.codes[self.accounts.row_of_id[row.buyer_id]]
        if name == "product":
            return self.products.get(row.product_id, "")
        value = getattr(row, RENAMED.get(name, name))
        return "" if value is None else plain(value) if hasattr(value, "as_tuple") else str(value)

    def names(self, rows: Collection[Cells]) -> dict[str, str]:
        """What the buyers in some rows are called: those that were moved away are not the seller's any more."""
        buyers = sorted({row["buyer"] for row in rows if "buyer" in row})
        seen = [each for each in buyers if accounts_service.is_in_scope(self.accounts, self.actor, each)]
        return accounts_service.names(self.accounts, seen)


def rows(tx: Transaction, actor: Actor, seller: str, table: str, find: str, offset: int, limit: int) -> Listed:
    """A window of a seller's rows of a table in which each word of ``find`` stands, the newest first."""
    told = _Told(tx, actor, seller, table, find)
    found = told.rows(offset, limit)
    return Listed(told.count(), found, told.names(found))


def counts(tx: Transaction, actor: Actor, seller: str) -> dict[str, int]:
    """How many rows each table of a seller has."""
    return {table: _Told(tx, actor, seller, table, "").count() for table in COLUMNS}


def every(tx: Transaction, actor: Actor, seller: str, table: str, find: str) -> Iterator[Cells]:
    """All of these rows."""
    told, offset = _Told(tx, actor, seller, table, find), 0
    while part := told.rows(offset, AT_ONCE):
        yield from part
        offset += AT_ONCE


def put(tx: Transaction, actor: Actor, seller: str, table: str, cells: Mapping[str, str], is_new: bool = False) -> None:
    """Make a row, or change that of the same key; refused with the cell where something is wrong, and where one said to
    be new is there.

    Writes the row by its key; the last who writes it counts. Closed months keep what they were closed with.
    """
    accounts, seller_id = _may(tx, actor, seller, table)
    full = {name: cells.get(name, "") for name in COLUMNS[table]}
    if table in OF_BUYER and not _buys(accounts, seller, full["buyer"]):
        raise invalid(f"{full['buyer'] or 'Nobody'} is no account directly below {seller}.", "buyer")
    sheet = SheetTable(table, list(full), iter([(2, list(full.values()))]))
    merged, faults = _load(tx, accounts, seller, table, sheet)
    for fault in faults:
        raise invalid(f"{fault.found}: expected {fault.expected}.", fault.column)
    if is_new and not merged.created:
        why = f"There is a {WORDS[table]} {_called(table, full)} already; change it instead."
        raise conflict(why, where=KEYS[table][-1])
    if merged.created or merged.changed:
        said = {name: text for name, text in full.items() if text}
        entry = log_service.Entry(SET[table], _called(table, full), seller_id, None, said)
        log_service.write(tx, actor, seller_id, [entry])


def load(tx: Transaction, actor: Actor, seller: str, table: str, file: SheetTable) -> tuple[Merged, list[Fault]]:
    """Make and change the rows of a file, by their keys: all of them, or, where something is wrong, none; and all that
    is. Its columns are those of an intake, without the seller.

    Writes the rows by their keys; the last who writes one counts.
    """
    accounts, seller_id = _may(tx, actor, seller, table)
    merged, faults = _load(tx, accounts, seller, table, replace(file, name=table))
    if merged.created or merged.changed:
        said = {"kind": f"{WORDS[table]}s", "created": merged.created, "changed": merged.changed}
        log_service.write(tx, actor, seller_id, [log_service.Entry("terms loaded", file.name, seller_id, None, said)])
    return merged, faults


def _load(
    tx: Transaction, accounts: Accounts, seller: str, table: str, sheet: SheetTable
) -> tuple[Merged, list[Fault]]:
    shared = [] if table == EXCHANGE else ["seller"]
    whole = SheetTable(
        table, [*shared, *sheet.header], ((number, [*(seller for _ in shared), *cells]) for number, cells in sheet.rows)
    )
    intake = parse(Source({table: whole}), lambda what, done: None)
    bought = {row["buyer"] for _, row in intake.table(table)} if table in OF_BUYER else set()
    there = _there(tx, accounts, seller, bought)
    Checks(intake, there).run()
    if intake.faults:
        return Merged(), intake.faults
    ids = {each.code: each.id for each in pools.products(tx)}
    rows = []
    for _, row in intake.table(table):
        of_row = {RENAMED.get(name, name): value for name, value in row.items() if name not in NAMED}
        if shared:
            of_row["seller_id"] = int(accounts.ids[accounts.tree.row(seller)])
        if table in OF_BUYER:
            of_row["buyer_id"] = int(accounts.ids[accounts.tree.row(row["buyer"])])
        if "product" in row:
            of_row["product_id"] = None if row["product"] is None else ids[row["product"]]
        rows.append(of_row)
    return terms.load(tx, table, rows), []


WORDS = {
    "charges": "charge",
    "discounts": "discount",
    "credits": "credit",
    "tax_rates": "tax rate",
    EXCHANGE: "exchange rate",
}
SET = {
    "charges": "charge set",
    "discounts": "discount set",
    "credits": "credit set",
    "tax_rates": "tax rate set",
    EXCHANGE: "exchange rate set",
}
REMOVED = {
    "charges": "charge removed",
    "discounts": "discount removed",
    "credits": "credit removed",
    "tax_rates": "tax rate removed",
    EXCHANGE: "exchange rate removed",
}


def _called(table: str, cells: Mapping[str, str]) -> str:
    return " ".join(cells[name] for name in KEYS[table])


def drop(tx: Transaction, actor: Actor, seller: str, table: str, key: Mapping[str, str]) -> None:
    """Take a row out, by its key. Closed months keep it."""
    accounts, seller_id = _may(tx, actor, seller, table)
    if any(name not in key for name in KEYS[table]):
        raise invalid(f"A {WORDS[table]} is named by {', '.join(KEYS[table])}.")
    where: dict[str, Any] = {} if table == EXCHANGE else {"seller_id": seller_id}
    for name in KEYS[table]:
        if name == "buyer":
            where["buyer_id"] = int(accounts.ids[accounts_service.row_in_scope(accounts, actor, key[name])])
        else:
            where[RENAMED.get(name, name)] = key[name]
    if not terms.drop(tx, table, where):
        raise not_found(WORDS[table], _called(table, key))
    entry = log_service.Entry(REMOVED[table], _called(table, key), seller_id, dict(key), None)
    log_service.write(tx, actor, seller_id, [entry])


def _may(tx: Transaction, actor: Actor, seller: str, table: str) -> tuple[Accounts, int]:
    """The accounts, and the seller's number; refused where the actor may not change its terms."""
    if table not in COLUMNS:
        raise not_found("table of terms", table)
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, seller)
    if not actor.limits.prices:
        raise not_allowed("Your delegation does not let you change prices.")
    if table == EXCHANGE and row != 0:
        raise not_allowed("Exchange rates are everybody's: only the operator changes them.")
    return accounts, int(accounts.ids[row])


def _buys(accounts: Accounts, seller: str, buyer: str) -> bool:
    """Whether an account stands directly below a seller."""
    tree = accounts.tree
    return buyer in tree and int(tree.parent[tree.row(buyer)]) == tree.row(seller)


def _there(tx: Transaction, accounts: Accounts, seller: str, bought: Collection[str]) -> There:
    """What the checks need to know: the seller and those above it, and of those who buy the ones that are its own."""
    tree, parents, currencies = accounts.tree, dict[str, str | None](), dict[str, str | None]()
    known = [*tree.path_up(tree.row(seller))]
    known += [tree.row(each) for each in sorted(bought) if _buys(accounts, seller, each)]
    for row in known:
        above = int(tree.parent[row])
        parents[tree.codes[row]] = None if above < 0 else tree.codes[above]
        currencies[tree.codes[row]] = accounts.facts[row].currency
    measures = {each.code: each.measure for each in pools.products(tx)}
    return There(parents, currencies, measures, frozenset(), {}, *[frozenset()] * 4)
