"""The grid by windows over HTTP, and what differs between two days. Quantities are whole grains."""

from __future__ import annotations

import json
from datetime import date
from typing import Any

from fastapi import Query, Response
from pydantic import BaseModel, Field, model_validator

from fair_ladle.app.allocations import listing, snapshots
from fair_ladle.app.allocations.routes import GridPool, accounts_body, columns_body
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.days import Day
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router, reads_only

routes = Router("/api/allocations", "allocations", sees="allocations.see", changes="drafts.change")
MOST_ROWS, MOST_NAMES, MOST_BRANCHES = 500, 5000, 5000


class RowsAsked(BaseModel):
    """Which accounts to list, and which window of them.

    ``product`` null = all; with ``names_alone`` no figures come of them. ``branches`` are open, or with ``all_open``
    those that are shut; the top is always open. ``below`` = only those directly below this account. With ``around``
    comes the window in which this account stands, everything above it opened; else the one from ``first`` on. ``on`` =
    as of a day; with ``compares`` it is told which cells are others on ``against`` (null = now).
    """

    product: list[str] | None = Field(default=None, max_length=500)
    names_alone: bool = False
    branches: list[str] = Field([], max_length=MOST_BRANCHES)
    all_open: bool = False
    show: listing.Show = "all"
    find: str = Field("", max_length=200)
    below: str | None = Field(default=None, max_length=64)
    around: str | None = Field(default=None, max_length=64)
    first: int = Field(0, ge=0, le=10**8)
    limit: int = Field(listing.AT_ONCE, ge=1, le=MOST_NAMES)
    on: Day | None = None
    compares: bool = False
    against: Day | None = None

    @model_validator(mode="after")
    def with_figures_fewer(self) -> RowsAsked:
        """Names alone come by thousands, figures by hundreds."""
        if not self.names_alone and self.limit > MOST_ROWS:
            raise ValueError(f"a limit of at most {MOST_ROWS}, or names alone")
        return self


class RowAccounts(BaseModel):
    """The accounts of a window, column by column."""

    code: list[str]
    name: list[str]
    kind: list[str]
    status: list[str]
    """active, suspended or closed"""
    depth: list[int]
    """Levels below the top."""
    above: list[int]
    """Where the account above is listed; -1 = nowhere."""
    below: list[int]
    """How many accounts there are in the branch."""
    open: list[bool]


class RowPool(GridPool):
    """A column of a window; ``differs`` says which cells are others on the day it is compared with."""

    differs: list[int] | None


class AllocationRows(BaseModel):
    """A window of the accounts that are listed.

    ``made_of`` is another for every other list: whoever has windows of two asks again. ``opened`` had to be opened for
    the account asked for, which is listed at ``place``. ``attention`` and ``closed`` count the accounts of the branch
    that are past a cap in these products, and those that are closed.
    """

    at: str
    day: str
    top: str
    made_of: str
    first: int
    count: int
    place: int | None
    opened: list[str]
    attention: int
    closed: int
    accounts: RowAccounts
    pools: list[RowPool]


@routes.post("/rows", response_model=AllocationRows)
@reads_only
def rows(body: RowsAsked, db: Db, who: Who) -> Response:
    """A window of the grid's rows with their positions; nothing is changed."""

    def find(tx: Transaction) -> dict[str, Any]:
        wanted = listing.Wanted(
            body.product,
            body.names_alone,
            frozenset(body.branches),
            body.all_open,
            body.show,
            body.find,
            body.below,
            body.around,
            body.first,
            body.limit,
            snapshots.instant_of(tx, body.on),
            snapshots.instant_of(tx, body.against),
            body.compares,
        )
        return _rows_body(listing.listing(tx, who, wanted))

    return Response(json.dumps(db.snapshot(find), separators=(",", ":")), media_type="application/json")


def _rows_body(found: listing.Listing) -> dict[str, Any]:
    snapshot = found.view.positions.snapshot
    tree, top = snapshot.accounts.tree, found.view.top
    top_depth = tree.depth(top)
    pools = columns_body(found.view, all_of_them=True)
    for column, pool in enumerate(pools):
        pool["differs"] = None if found.differing is None else found.differing[:, column].astype(int).tolist()
    return {
        "at": snapshot.at.isoformat(),
        "day": snapshot.day.isoformat(),
        "top": tree.codes[top],
        "made_of": found.made_of,
        "first": found.first,
        "count": found.count,
        "place": found.place,
        "opened": found.opened,
        "attention": found.attention,
        "closed": found.closed,
        "accounts": {
            **accounts_body(found.view),
            "depth": [tree.depth(row) - top_depth for row in found.view.rows.tolist()],
            "above": found.above,
            "below": found.below,
            "open": found.open,
        },
        "pools": pools,
    }


class CellThen(BaseModel):
    """What a cell was on a day (cap null = none)."""

    reserve: int
    cap: int | None
    load: int


class CellDifference(BaseModel):
    """A cell on the earlier of two days and on the later one; null = no pool reached the account."""

    account: str
    name: str
    product: str
    before: CellThen | None
    after: CellThen | None


class DaysDiffer(BaseModel):
    """How many cells differ between two days, and the first thousand of them."""

    earlier: date
    later: date
    count: int
    cells: list[CellDifference]


@routes.get("/differences", response_model=DaysDiffer)
def differences(
    db: Db, who: Who, on: Day, against: Day | None = None, product: list[str] | None = Query(None)
) -> DaysDiffer:
    """Which cells of one's branch are others on one day than on another (or today), from the earlier to the later."""
    found = db.snapshot(listing.differences, who, product, on, against)
    return DaysDiffer(
        earlier=found.earlier,
        later=found.later,
        count=found.count,
        cells=[
            CellDifference(
                account=each.account,
                name=each.name,
                product=each.product.code,
                before=_then(each.before),
                after=_then(each.after),
            )
            for each in found.cells
        ],
    )


def _then(found: tuple[int, int | None, int] | None) -> CellThen | None:
    return None if found is None else CellThen(reserve=found[0], cap=found[1], load=found[2])
