"""The allocation grid and the ladder over HTTP. Quantities are whole grains; ``per_unit`` says how many make a unit."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from typing import Any

from fastapi import Query, Response
from pydantic import BaseModel, Field

from fair_ladle.app.allocations import snapshots, views
from fair_ladle.app.allocations.positions import Positions
from fair_ladle.app.allocations.rows import VersionRecord
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.days import Day
from fair_ladle.app.plumbing.exports import Format, sheet
from fair_ladle.app.plumbing.http import At, Db, Who
from fair_ladle.app.plumbing.routing import Router, for_people_of_a_group, needs, reads_only
from fair_ladle.app.pools.service import Product
from fair_ladle.core.calendar import instant
from fair_ladle.core.quantities import to_units
from fair_ladle.core.settling import NO_LIMIT

routes = Router("/api/allocations", "allocations", sees="allocations.see", changes="drafts.change")


class GridAccounts(BaseModel):
    """The branch in tree order, column by column; ``parent`` is a place in the same lists, -1 for the top."""

    code: list[str]
    name: list[str]
    kind: list[str]
    status: list[str]
    """active, suspended or closed"""
    parent: list[int]


class NextEnding(BaseModel):
    """The next lots to end, and what that leaves uncovered."""

    day: str
    quantity: int
    uncovered: int


class GridPool(BaseModel):
    """One product's column; figures of cells in the order of the accounts (cap and burst null = none).

    ``supply`` and ``used`` head the column: the pool's where the branch owns it, else the top's cap and load.
    """

    product: str
    name: str
    unit: str
    measure: str
    per_unit: int
    owned: bool
    supply: int | None
    used: int
    held: int
    free: int | None
    ending: NextEnding | None
    present: list[int]
    """1 where a pool reaches the account."""
    reserve: list[int]
    cap: list[int | None]
    own: list[int]
    used_by: list[int]
    load: list[int]
    held_by: list[int]
    headroom: list[int | None]
    """null where nothing in sight limits"""
    bound_by: list[str | None]
    state: list[str]


class AllocationGrid(BaseModel):
    """Who has what in a branch."""

    at: str
    day: str
    top: str
    accounts: GridAccounts
    pools: list[GridPool]


class LadderLimit(BaseModel):
    """One limit on the way up, in units, as far as the top of one's branch."""

    account: str
    name: str
    reserve: str | None
    cap: str | None
    burst: str | None
    goes_past: bool
    """At the cap units still go through: grace or overage"""
    load: str | None
    held: str | None
    leaves: str | None
    binds: bool


class LadderBody(BaseModel):
    """The limits from the account upwards as far as one sees; ``ask`` names the account above that gives more, headroom
    is null where nothing in sight limits."""

    headroom: str | None
    bound_by: str | None
    sentence: str
    ask: str | None
    limits: list[LadderLimit]
    unit: str
    product: str


class VersionBody(BaseModel):
    """An allocation in force, in grains."""

    id: int
    reserve: int
    cap: int | None
    at_cap: str
    burst: int | None
    grace_days: int | None
    per: str | None
    each: int | None
    first_day: str
    last_day: str | None


class CellBody(BaseModel):
    """One account in one pool; ``cap`` is what it is now, with the ``seats`` that it follows (null = none)."""

    account: str
    name: str
    parent_name: str | None
    product: str
    product_name: str
    unit: str
    per_unit: int
    state: str
    own: int
    load: int
    held: int
    cap: int | None
    seats: int | None
    version: VersionBody | None
    may_change: bool
    most_reserve: int
    grace_since: str | None
    grace_until: str | None
    ladder: LadderBody


def _none(limit: int) -> int | None:
    return None if limit >= NO_LIMIT else limit


def columns_body(found: views.GridView, all_of_them: bool = False) -> list[dict[str, Any]]:
    """What heads each column and its rows' figures, as plain values; of the pools that reach one of the rows, or of
    all."""
    positions, snapshot = found.positions, found.positions.snapshot
    rows = found.rows
    states, used = positions.states(rows), positions.used()
    pools = []
    for column, product in enumerate(snapshot.products):
        reached = snapshot.owner[rows, column] >= 0
        if not (all_of_them or reached.any()):
            continue
        owned = int(snapshot.owner[found.top, column]) == found.top
        load = int(positions.settled.load[found.top, column])
        supply: int | None
        if owned:
            supply = int(snapshot.supply.quantity[positions.pool_at(found.top, column)])
        else:
            supply = _none(int(snapshot.grid.cap[found.top, column]))
        ending = found.endings.get(column)
        pools.append(
            {
                "product": product.code,
                "name": product.name,
                "unit": product.unit,
                "measure": product.measure,
                "per_unit": product.per_unit,
                "owned": owned,
                "supply": supply,
                "used": int(used[found.top, column]),
                "held": load,
                "free": None
                if supply is None
                else int(positions.pool_standing()[positions.pool_at(found.top, column)])
                if owned
                else supply - load,
                "ending": None
                if ending is None
                else {
                    "day": ending.day.isoformat(),
                    "quantity": ending.quantity,
                    "uncovered": ending.uncovered,
                },
                "present": reached.astype(int).tolist(),
                "reserve": snapshot.grid.reserve[rows, column].tolist(),
                "cap": [_none(cap) for cap in snapshot.grid.cap[rows, column].tolist()],
                "own": snapshot.own[rows, column].tolist(),
                "used_by": used[rows, column].tolist(),
                "load": positions.settled.load[rows, column].tolist(),
                "held_by": positions.settled.held[rows, column].tolist(),
                "headroom": [views.visible_room(room) for room in positions.headroom.room[rows, column].tolist()],
                "bound_by": views.visible_bound(positions, rows, column),
                "state": [states[place][column] for place in range(len(rows))],
            }
        )
    return pools


def accounts_body(found: views.GridView) -> dict[str, list[str]]:
    """Who stands in the rows, as plain values."""
    accounts, rows = found.positions.snapshot.accounts, found.rows.tolist()
    facts = [accounts.facts[row] for row in rows]
    return {
        "code": [each.code for each in facts],
        "name": [each.name for each in facts],
        "kind": [each.kind for each in facts],
        "status": [accounts.status(row) for row in rows],
    }


def grid_body(found: views.GridView) -> dict[str, Any]:
    """The grid column by column, as plain values."""
    snapshot, rows = found.positions.snapshot, found.rows.tolist()
    tree = snapshot.accounts.tree
    place_of = {row: place for place, row in enumerate(rows)}
    return {
        "at": snapshot.at.isoformat(),
        "day": snapshot.day.isoformat(),
        "top": tree.codes[found.top],
        "accounts": {
            **accounts_body(found),
            "parent": [-1 if row == found.top else place_of.get(int(tree.parent[row]), -1) for row in rows],
        },
        "pools": columns_body(found),
    }


class ProductName(BaseModel):
    """What a product that reaches one's branch is called and how it is counted."""

    product: str
    name: str
    unit: str
    measure: str
    per_unit: int


@routes.get("/products", response_model=list[ProductName])
@needs("accounts.see")
@for_people_of_a_group
def products(db: Db, who: Who) -> Any:
    """The products of which a pool reaches one's branch, by their codes."""
    return [
        ProductName(product=each.code, name=each.name, unit=each.unit, measure=each.measure, per_unit=each.per_unit)
        for each in db.snapshot(snapshots.products_in_sight, who)
    ]


class ProductRef(BaseModel):
    """A product, by code and name."""

    product: str
    name: str


class ComponentOf(BaseModel):
    """Something a product contains; mandatory = it cannot be switched off."""

    name: str
    mandatory: bool


class ProductPage(ProductName):
    """What a product contains and what it goes with, as far as that reaches one's branch too."""

    components: list[ComponentOf]
    family: list[ProductRef]
    """Products of its family from the lowest to the highest, itself included: who is given several has the highest."""
    bases: list[ProductRef]
    """An add-on needs one of these."""
    add_ons: list[ProductRef]
    successor: ProductRef | None


@routes.get("/products/{product}", response_model=ProductPage)
@needs("accounts.see")
def product_facts(product: str, db: Db, who: Who) -> Any:
    """A product that reaches one's branch: its contents, its family, its bases and add-ons."""
    found, others = db.snapshot(snapshots.product_in_sight, who, product)

    def refs(products: Iterable[Product]) -> list[ProductRef]:
        return [ProductRef(product=each.code, name=each.name) for each in products]

    return ProductPage(
        product=found.code,
        name=found.name,
        unit=found.unit,
        measure=found.measure,
        per_unit=found.per_unit,
        components=[ComponentOf(name=each, mandatory=each in found.mandatory) for each in found.components],
        family=refs(others.family),
        bases=refs(others.bases),
        add_ons=refs(others.add_ons),
        successor=next(iter(refs([others.successor] if others.successor else [])), None),
    )


@routes.get("", response_model=AllocationGrid)
def grid(
    db: Db,
    who: Who,
    product: list[str] | None = Query(None),
    at: At | None = None,
    on: Day | None = None,
    account: list[str] = Query([], max_length=500),
) -> Response:
    """Positions of one's branch (or of these accounts in it, the top first) in all pools or in those of these
    products: now, at an instant, or as of a day past or ahead."""
    body = db.snapshot(lambda tx: grid_body(views.grid(tx, who, product, at or snapshots.instant_of(tx, on), account)))
    return Response(json.dumps(body, separators=(",", ":")), media_type="application/json")


@routes.get("/export", response_class=Response)
def export(
    db: Db,
    who: Who,
    form: Format,
    product: list[str] | None = Query(None),
    at: At | None = None,
    account: list[str] | None = Query(None),
    on: Day | None = None,
) -> Response:
    """The positions that are shown (all, or of these accounts), as a file, in units."""
    wanted = None if account is None else frozenset(account)

    def rows() -> Iterator[list[Any]]:
        for part in db.stream(views.parts, who, product, on, at, wanted):
            accounts, pools = accounts_body(part), columns_body(part)
            for place, (code, name) in enumerate(zip(accounts["code"], accounts["name"], strict=True)):
                for pool in pools:
                    if pool["present"][place]:
                        figures = (pool[each][place] for each in EXPORTED)
                        units = (None if each is None else to_units(each, pool["measure"]) for each in figures)
                        bound, state = pool["bound_by"][place], pool["state"][place]
                        yield [code, name, pool["product"], pool["unit"], *units, bound, state]

    columns = ["account", "name", "product", "unit", *(each.removesuffix("_by") for each in EXPORTED)]
    return sheet("allocations", form, [*columns, "bound_by", "state"], rows())


EXPORTED = ("reserve", "cap", "own", "load", "held_by", "headroom")


def version_body(version: VersionRecord) -> dict[str, Any]:
    """An allocation version, as plain values."""
    return {
        "id": version.id,
        "reserve": version.reserve,
        "cap": version.cap,
        "at_cap": version.at_cap,
        "burst": version.burst,
        "grace_days": version.grace_days,
        "per": version.per,
        "each": version.each,
        "first_day": version.first_day.isoformat(),
        "last_day": version.last_day.isoformat() if version.last_day else None,
    }


def cell_body(found: views.Cell, who: Actor) -> dict[str, Any]:
    """A cell with its ladder, as plain values."""
    positions, row = found.positions, found.row
    snapshot = positions.snapshot
    tree, product = snapshot.accounts.tree, snapshot.products[0]
    clock = snapshot.clocks.get((row, 0))
    parent = int(tree.parent[row])
    return {
        "account": tree.codes[row],
        "name": snapshot.accounts.name(row),
        "parent_name": None if parent < 0 or tree.codes[row] == who.scope else snapshot.accounts.name(parent),
        "product": product.code,
        "product_name": product.name,
        "unit": product.unit,
        "per_unit": product.per_unit,
        "state": positions.states()[row][0],
        "own": int(snapshot.own[row, 0]),
        "load": int(positions.settled.load[row, 0]),
        "held": int(positions.settled.held[row, 0]),
        "cap": _none(int(snapshot.grid.cap[row, 0])),
        "seats": _seats(positions, row),
        "version": version_body(found.version) if found.version else None,
        "may_change": found.may_change,
        "most_reserve": found.most_reserve,
        "grace_since": None if clock is None else instant(clock.since).isoformat(),
        "grace_until": None if clock is None else clock.deadline_day.isoformat(),
        "ladder": positions.visible_ladder(row, 0, who),
    }


def _seats(positions: Positions, row: int) -> int | None:
    """How many units the cap of an account follows; None where it follows none, or they bring nothing."""
    grid = positions.snapshot.grid
    follows = grid.following.get((row, 0))
    return (int(grid.cap[row, 0]) - follows.fixed) // follows.each if follows is not None and follows.each else None


@routes.get("/cell", response_model=CellBody)
def cell(db: Db, who: Who, account: str, product: str, at: At | None = None, on: Day | None = None) -> Any:
    """One account in one pool with the limits on its way up: now, at an instant, or as of a day."""
    return db.snapshot(
        lambda tx: cell_body(views.cell(tx, who, account, product, at or snapshots.instant_of(tx, on)), who)
    )


class HistoryBody(BaseModel):
    """A version of an allocation, with who made it (null = it came with an intake) and through what (a draft, a
    request)."""

    version: VersionBody
    by: str | None
    at: str | None
    through: str | None


@routes.get("/history", response_model=list[HistoryBody])
def history(db: Db, who: Who, account: str, product: str) -> Any:
    """Every version of one allocation, past and ahead, the newest first."""
    return [
        HistoryBody(
            version=VersionBody(**version_body(each.version)),
            by=each.by,
            at=each.at.isoformat() if each.at else None,
            through=each.through,
        )
        for each in db.snapshot(views.history, who, account, product)
    ]


class CellName(BaseModel):
    """One account in one product's pool."""

    account: str = Field(max_length=64)
    product: str = Field(max_length=64)


class CellNames(BaseModel):
    """Cells that are changed together."""

    cells: list[CellName] = Field(min_length=1, max_length=views.MOST_CELLS)


class CellTerms(CellName):
    """What stands in a cell now, for changing many at once; ``version`` null = nothing yet, ``fixed`` why it cannot
    be changed, ``reached`` whether a pool reaches it."""

    version: VersionBody | None
    owner: bool
    reached: bool
    fixed: str | None


@routes.post("/terms", response_model=list[CellTerms])
@reads_only
def terms(body: CellNames, db: Db, who: Who) -> Any:
    """The allocations in force in many cells; nothing is changed."""
    found = db.snapshot(views.terms, who, [(each.account, each.product) for each in body.cells])
    return [
        CellTerms(
            account=each.account,
            product=each.product,
            version=VersionBody(**version_body(each.version)) if each.version else None,
            owner=each.owner,
            reached=each.reached,
            fixed=each.fixed,
        )
        for each in found
    ]
