"""Bringing an intake in: checked whole, loaded in one transaction or not at all."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.allocations.positions import to_version
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.data_import.checks import Checks, There
from fair_ladle.app.data_import.formats import FORMATS
from fair_ladle.app.data_import.reading import Intake, OnProgress, ParsedTable, parse
from fair_ladle.app.data_import.remarks import remarks
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import memberships
from fair_ladle.app.people import service as people
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.merge import Merged
from fair_ladle.app.plumbing.problems import Problem, Refused, conflict, invalid, not_allowed
from fair_ladle.app.pools import service as pools
from fair_ladle.app.statements import rate_cards, terms
from fair_ladle.app.usage import service as usage
from fair_ladle.connectors.sheets_in import Fault, SheetTable, Source


class FaultyIntake(Refused):
    """The intake has faults; nothing was changed."""

    def __init__(self, faults: list[Fault]):
        super().__init__(
            Problem("faulty-intake", "The intake has faults", 422, f"{len(faults)} faults; nothing was changed.")
        )
        self.faults = faults


@dataclass(frozen=True)
class LoadResult:
    """What an intake did, by table; and what of it, though it is right, has no effect as things stand."""

    tables: dict[str, Merged]
    remarks: list[Fault] = field(default_factory=list)


def load(tx: Transaction, actor: Actor, source: Source, progress: OnProgress = lambda what, done: None) -> LoadResult:
    """Check a source and load it; FaultyIntake with every fault otherwise. For the operator's side only."""
    if actor.scope is not None and actor.scope != accounts_service.operator(tx).code:
        raise not_allowed("Only the operator can import an intake.")
    intake = parse(source, progress)
    if not source.tables and not source.faults:
        intake.faults.append(
            Fault("intake", None, None, "no table", "at least one of " + ", ".join(f"{name}.csv" for name in FORMATS))
        )
    progress("checking", 0)
    Checks(intake, _there(tx)).run()
    if intake.faults:
        order = list(FORMATS)
        raise FaultyIntake(
            sorted(
                set(intake.faults),
                key=lambda f: (
                    order.index(f.file[:-4]) if f.file[:-4] in order else -1,
                    f.file,
                    f.row or 0,
                    f.column or "",
                ),
            )
        )
    loaded = replace(_load(tx, intake, progress), remarks=remarks(tx, intake))
    _log(tx, actor, loaded)
    return loaded


def put_product(tx: Transaction, actor: Actor, cells: Mapping[str, str], is_new: bool) -> None:
    """Make or change one product, its cells as an intake has them and checked the same way. The operator does; refused
    with the field where something is wrong, and where one said to be new is there."""
    accounts = accounts_service.known(tx)
    if accounts_service.top_row(accounts, actor) != 0:
        raise not_allowed("Only the operator can change products.")
    source = Source({"products": SheetTable("products", list(cells), iter([(2, list(cells.values()))]))})
    intake = parse(source, lambda what, done: None)
    root, products = accounts.tree.codes[0], pools.products(tx)
    measures = {each.code: each.measure for each in products}
    if is_new and cells["code"] in measures:
        raise conflict(f"There is a product {cells['code']} already.", where="code")
    there = There({root: None}, {root: accounts.facts[0].currency}, measures, frozenset(), {}, *[frozenset()] * 4)
    Checks(intake, there).run()
    for fault in intake.faults:
        raise invalid(f"{fault.found}: expected {fault.expected}.", fault.column)
    [(_, row)] = intake.table("products")
    merged = pools.load_products(tx, [row | {"unit": row["unit"] or row["measure"]}])
    if merged.changed:
        assignments.loaded(tx)  # families and bases may be others
    before = next((each for each in products if each.code == row["code"]), None)
    if merged.created or merged.changed:
        said = {name: text for name, text in cells.items() if text and name != "code"}
        entry = log_service.Entry(
            "product changed" if before else "product made",
            row["code"],
            int(accounts.ids[0]),
            None if before is None else {"name": before.name, "unit": before.unit, "family": before.family or ""},
            said,
        )
        log_service.write(tx, actor, int(accounts.ids[0]), [entry])


def every_product(tx: Transaction, actor: Actor) -> list[tuple[pools.Product, bool]]:
    """Every product, and whether there is a pool of it. The operator sees them all."""
    accounts = accounts_service.known(tx)
    if accounts_service.top_row(accounts, actor) != 0:
        raise not_allowed("Only the operator can see all products.")
    products = pools.products(tx)
    pooled = {each.product.id for each in pools.pools(tx, products)}
    return [(each, each.id in pooled) for each in products]


def _there(tx: Transaction) -> There:
    code_of = {value: key for key, value in accounts_service.ids_by_code(tx).items()}
    if not code_of:
        return There({}, {}, {}, frozenset(), {}, *[frozenset()] * 4)
    accounts = accounts_service.read(tx, accounts_service.today(tx))
    tree = accounts.tree
    products = {each.id: each for each in pools.products(tx)}
    owners = frozenset((code_of[pool.owner_id], pool.product.code) for pool in pools.pools(tx, list(products.values())))
    versions = defaultdict(list)
    for row in allocations.all_versions(tx, list(products)):
        pair = (code_of[row.account_id], products[row.product_id].code)
        versions[pair].append(to_version(row, pair[0]))
    usernames, group_codes = people.known_names(tx)
    rates = {
        (code_of[row.seller_id], code_of.get(row.buyer_id), products[row.product_id].code, row.first_day): row.markup
        for row in rate_cards.keys(tx)
    }
    return There(
        {
            code: None if parent < 0 else tree.codes[parent]
            for code, parent in zip(tree.codes, tree.parent.tolist(), strict=True)
        },
        {each.code: each.currency for each in accounts.facts},
        {each.code: each.measure for each in products.values()},
        owners,
        versions,
        usernames,
        group_codes,
        frozenset(rates),
        frozenset(key for key, markup in rates.items() if markup is not None),
    )


@dataclass(frozen=True)
class _Placed:
    """Rows of a table as they are loaded, each time they are gone through: codes become numbers by ``ids``, in columns
    that are called as ``columns`` says (name, whose numbers)."""

    rows: ParsedTable
    columns: Mapping[str, tuple[str, Mapping[str, int] | None]]

    def __iter__(self) -> Iterator[dict[str, Any]]:
        how = [self.columns.get(name, (name, None)) for name in self.rows.names]
        names, ids_of = [name for name, _ in how], [ids for _, ids in how]
        for _, row in self.rows.values(*self.rows.names):
            yield {
                name: value if ids is None or value is None else ids[value]
                for name, ids, value in zip(names, ids_of, row, strict=True)
            }


def _load(tx: Transaction, intake: Intake, progress: OnProgress) -> LoadResult:
    done: dict[str, Merged] = {}
    there = {name for name in FORMATS if intake.table(name)}

    def rows(table: str) -> list[dict[str, Any]]:
        progress(f"loading {table}", 0)
        return [row for _, row in intake.table(table)]

    if "accounts" in there:
        new = rows("accounts")
        done["accounts"] = accounts_service.load(
            tx,
            [{k: v for k, v in row.items() if k != "parent"} for row in new],
            {row["code"]: row["parent"] for row in new},
        )
    ids = accounts_service.ids_by_code(tx)
    if "products" in there:
        done["products"] = pools.load_products(
            tx,
            [row | {"unit": row["unit"] or row["measure"]} for row in rows("products")],
        )
    product_ids = {each.code: each.id for each in pools.products(tx)}

    def placed(table: str, accounts: Iterable[str], renamed: Mapping[str, str] | None = None) -> _Placed:
        """Rows with ids in place of codes, columns renamed where the table calls them otherwise."""
        progress(f"loading {table}", 0)
        columns: dict[str, tuple[str, Mapping[str, int] | None]] = {
            name: (to, None) for name, to in (renamed or {}).items()
        }
        columns |= {name: (f"{name}_id", ids) for name in accounts}
        columns |= {name: (f"{name}_id", product_ids) for name in ("product", "per")}
        return _Placed(intake.table(table), columns)

    if "lots" in there:
        done["lots"] = pools.load_lots(tx, list(placed("lots", ("owner",))))
    if "allocations" in there:
        done["allocations"] = allocations.load(tx, list(placed("allocations", ("account",))))
    if "people" in there:
        done["people"] = people.load_people(tx, placed("people", ("account",)))
        intake.table("people").clear()
    if "groups" in there:
        done["groups"] = people.load_groups(tx, list(placed("groups", ("account",))))
    if "assignments" in there:
        done["assignments"] = usage.load_assignments(
            tx,
            placed("assignments", ("account",), {"from": "begins", "to": "ends"}),
            lambda count: progress("loading assignments", count),
        )
        intake.table("assignments").clear()
    if "storage" in there:
        done["storage"] = usage.load_samples(
            tx, placed("storage", ("account",)), lambda count: progress("loading storage", count)
        )
        intake.table("storage").clear()
    if "rates" in there or "rate_tiers" in there:
        merged, tiers = rate_cards.load(
            tx, list(placed("rates", ("seller", "buyer"))), list(placed("rate_tiers", ("seller", "buyer")))
        )
        done.update({name: each for name, each in (("rates", merged), ("rate_tiers", tiers)) if intake.table(name)})
    for table in terms.KEYS:
        if table in there:
            done[table] = terms.load(tx, table, list(placed(table, ("seller", "buyer"), {"from": "of", "to": "into"})))
    if "people" in there or "groups" in there or "accounts" in there:
        accounts_service.structure_changed(tx)
        memberships.rebuild(tx)
        usage.settle_whose(tx, pools.products(tx))
    if "assignments" in there or "products" in there:
        assignments.loaded(tx)
    pools.mark_stale(tx)
    accounts_service.structure_changed(tx)
    progress("adding up what is in use", 0)
    assignments.rebuild_stale(tx)
    return LoadResult(done)


def _log(tx: Transaction, actor: Actor, loaded: LoadResult) -> None:
    if not any(merged.created or merged.changed for merged in loaded.tables.values()):
        return
    root = accounts_service.operator(tx)
    entries = [
        log_service.Entry(
            "intake",
            "intake imported",
            root.id,
            None,
            {
                table: f"{merged.created} created, {merged.changed} changed, {merged.left} left"
                for table, merged in loaded.tables.items()
            },
        )
    ]
    for table, merged in loaded.tables.items():
        for key, before, after in merged.changes:
            account = after.get("account_id") or next(
                (
                    part
                    for part, name in zip(key, _key_names(table), strict=False)
                    if name in ("account_id", "owner_id", "seller_id")
                ),
                None,
            )
            entries.append(
                log_service.Entry(
                    f"intake: {table}", ", ".join(str(part) for part in key if part is not None), account, before, after
                )
            )
    log_service.write(tx, actor, None, entries)


def _key_names(table: str) -> tuple[str, ...]:
    return {
        "lots": ("product_id", "owner_id"),
        "allocations": ("product_id", "account_id"),
        "groups": ("account_id",),
        "assignments": ("product_id", "account_id"),
        "storage": ("product_id", "account_id"),
        "rates": rate_cards.KEY,
        **terms.KEYS,
    }.get(table, ())
