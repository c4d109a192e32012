"""Where the bytes sit, over HTTP. Sizes are grains (MB)."""

from __future__ import annotations

from dataclasses import asdict
from datetime import date, datetime
from typing import Annotated, Any, Literal

from fastapi import Path, Query, Response
from pydantic import BaseModel, Field

from fair_ladle.app.plumbing.days import Day
from fair_ladle.app.plumbing.exports import Format, sheet
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router, needs, reads_only
from fair_ladle.app.storage import folders, left_behind, limits, listing, on_a_day
from fair_ladle.app.storage.listing import Order, Show, ShowAccounts
from fair_ladle.core.quantities import STORAGE, to_units

routes = Router("/api/storage", "storage", sees="people.see", changes="layers.change")
What = Literal["people", "folders", "categories"]
OrderAccounts = Literal["size", "week", "month", "quarter", "share"]
Code = Annotated[str, Query(max_length=64)]
Find = Annotated[str, Query(max_length=200)]


class SizeBody(BaseModel):
    """Grains stored now, and a week, a month and a quarter ago."""

    now: int
    week_ago: int
    month_ago: int
    quarter_ago: int


class StorageProduct(BaseModel):
    """A storage product in sight."""

    product: str
    name: str
    per_unit: int


class FillingBody(BaseModel):
    """The day on which it is full at the middle pace of the last week, month and quarter, at the fastest, and at the
    slowest; null = not within ten years."""

    day: date | None
    soonest: date | None
    latest: date | None


class StorageTotal(BaseModel):
    """What a branch stores, of its cap (null = none in sight), and whose it is: of people who are there, of shared
    folders, left behind by people who moved or went, and all other categories."""

    product: str
    product_name: str
    per_unit: int
    account: str
    account_name: str
    parent: str | None
    size: SizeBody
    cap: int | None
    state: str
    personal: SizeBody
    shared: SizeBody
    left_behind: SizeBody
    other: SizeBody
    full: FillingBody | None


class StorageRow(BaseModel):
    """One of a list: an account with all below it (``name`` empty: itself without), a person's own, a shared folder, or
    a category. ``here`` is false of what somebody left behind, and of a folder that nobody looks after; ``owner`` is
    who does, and ``stands`` whether it is archived, or to be deleted."""

    account: str
    account_name: str
    name: str
    title: str
    size: SizeBody
    limit: int | None
    source: str | None
    state: str | None
    here: bool
    at: datetime | None
    used_at: datetime | None
    owner: str | None
    stands: Literal["archived", "deleted"] | None


class StorageRows(BaseModel):
    """A window of a list; ``total`` is counted up to 10,000."""

    rows: list[StorageRow]
    total: int


class CategorySize(BaseModel):
    """A category and the grains in it."""

    category: str
    size: int


class DaySize(BaseModel):
    """Grains at the end of a day."""

    day: date
    size: int


class MemberSize(BaseModel):
    """Somebody and the grains they wrote to a folder."""

    username: str
    name: str
    size: int


class StorageDetail(BaseModel):
    """What one of a list stores, category by category, and all together over the days on which it changed; of a shared
    folder its ``members`` with what each wrote."""

    categories: list[CategorySize]
    days: list[DaySize]
    members: list[MemberSize]


class SizeBand(BaseModel):
    """So many people store so much (grains, to two digits)."""

    size: int
    people: int


class Biggest(BaseModel):
    """One of the people who store most, or are furthest over a limit."""

    username: str
    name: str
    account_name: str
    size: int
    limit: int | None


class Spread(BaseModel):
    """How what people store is spread in a branch: those who store something, their mean, median and 90th percentile
    (grains), and the ten who store most."""

    people: int
    mean: int
    median: int
    ninetieth: int
    bands: list[SizeBand]
    biggest: list[Biggest]


class LimitPreview(BaseModel):
    """What a limit a person would do in a layer: whom it is for, how many would be over it and near it, by how much in
    all, and what it is now. ``biggest`` are furthest over it."""

    people: int
    over: int
    near: int
    beyond: int
    over_now: int
    near_now: int
    limit_now: int | None
    bands: list[SizeBand]
    biggest: list[Biggest]


@routes.get("/products", response_model=list[StorageProduct])
@needs("allocations.see")
def storage_products(db: Db, who: Who) -> Any:
    """The storage products in sight."""
    return [
        StorageProduct(product=each.code, name=each.name, per_unit=each.per_unit)
        for each in db.snapshot(listing.storage_products, who)
    ]


@routes.get("/total", response_model=StorageTotal)
@needs("allocations.see")
def storage_total(db: Db, who: Who, product: Code, account: Code, day: Day | None = None) -> Any:
    """What an account stores with all below it; with a day that is over, what it stored at its end."""
    found = (
        db.snapshot(listing.total, who, product, account)
        if day is None
        else db.snapshot(on_a_day.total, who, product, account, day)
    )
    return asdict(found) | {
        "product": found.product.code,
        "product_name": found.product.name,
        "per_unit": found.product.per_unit,
    }


@routes.get("/accounts", response_model=StorageRows)
@needs("allocations.see")
def storage_accounts(
    db: Db,
    who: Who,
    product: Code,
    account: Code,
    show: ShowAccounts = "all",
    order: OrderAccounts = "size",
    offset: Annotated[int, Query(ge=0, le=1_000_000)] = 0,
    limit: Annotated[int, Query(ge=1, le=500)] = 100,
    day: Day | None = None,
) -> Any:
    """A window of the accounts directly below one that store something, each with all below it, and of it itself; with
    a day that is over, as of its end."""
    if day is not None:
        return asdict(db.snapshot(on_a_day.children, who, product, account, day, order, offset, limit))
    return asdict(db.snapshot(listing.children, who, product, account, show, order, offset, limit))


@routes.get("/rows", response_model=StorageRows)
def storage_rows(
    db: Db,
    who: Who,
    product: Code,
    account: Code,
    what: What = "people",
    show: Show = "all",
    order: Order = "size",
    find: Find = "",
    offset: Annotated[int, Query(ge=0, le=1_000_000)] = 0,
    limit: Annotated[int, Query(ge=1, le=500)] = 100,
    day: Day | None = None,
) -> Any:
    """A window of what an account and all below it store: by person, shared folder or category; with a day that is
    over, all of it as of its end, without limits."""
    if day is not None:
        return asdict(db.snapshot(on_a_day.holders, who, product, account, what, day, order, find, offset, limit))
    return asdict(db.snapshot(listing.holders, who, product, account, what, show, order, find, offset, limit))


@routes.get("/export", response_class=Response)
def storage_export(
    db: Db,
    who: Who,
    form: Format,
    product: Code,
    account: Code,
    what: What = "people",
    show: Show = "all",
    order: Order = "size",
    find: Find = "",
    day: Day | None = None,
) -> Response:
    """The same list as a table, in GB."""
    if day is not None:
        past = db.snapshot(on_a_day.holders, who, product, account, what, day, order, find)
        return sheet(f"storage-{what}-{day}", form, COLUMNS, (_cells(each) for each in past.rows))
    rows = db.stream(listing.every_holder, who, product, account, what, show, order, find)
    return sheet(f"storage-{what}", form, COLUMNS, (_cells(each) for each in rows))


@routes.get("/accounts/export", response_class=Response)
@needs("allocations.see")
def storage_accounts_export(
    db: Db,
    who: Who,
    form: Format,
    product: Code,
    account: Code,
    show: ShowAccounts = "all",
    order: OrderAccounts = "size",
    day: Day | None = None,
) -> Response:
    """The accounts directly below one as a table, in GB."""
    if day is not None:
        past = db.snapshot(on_a_day.children, who, product, account, day, "size")
        return sheet(f"storage-accounts-{day}", form, COLUMNS, (_cells(each) for each in past.rows))
    rows = db.stream(listing.every_child, who, product, account, show, order)
    return sheet("storage-accounts", form, COLUMNS, (_cells(each) for each in rows))


COLUMNS = ["account", "account_name", "name", "title", "size_gb", "week_ago_gb", "month_ago_gb", "quarter_ago_gb"]
COLUMNS += ["limit_gb", "limit_from", "state", "left_behind", "changed_at", "last_use", "owner"]


def _cells(row: listing.Row) -> list[Any]:
    sizes = (row.size.now, row.size.week_ago, row.size.month_ago, row.size.quarter_ago, row.limit)
    units = [None if each is None else to_units(each, STORAGE) for each in sizes]
    when = [None if each is None else each.isoformat() for each in (row.at, row.used_at)]
    return [
        row.account,
        row.account_name,
        row.name,
        row.title,
        *units,
        row.source,
        row.state,
        not row.here,
        *when,
        row.owner,
    ]


@routes.get("/detail", response_model=StorageDetail)
def storage_detail(
    db: Db,
    who: Who,
    product: Code,
    account: Code,
    what: What,
    name: Annotated[str, Query(max_length=128)],
) -> Any:
    """What one of a list stores, category by category and over time."""
    found = db.snapshot(listing.detail, who, product, account, what, name)
    return StorageDetail(
        categories=[CategorySize(category=category, size=size) for category, size in found.categories],
        days=[DaySize(day=day, size=size) for day, size in found.days],
        members=[MemberSize(username=username, name=called, size=size) for username, called, size in found.members],
    )


@routes.get("/spread", response_model=Spread)
def spread(db: Db, who: Who, product: Code, account: Code) -> Any:
    """How what people store is spread in a branch."""
    return asdict(db.snapshot(limits.spread, who, product, account))


class LimitToTry(BaseModel):
    """A limit an account (for everybody of it and below), or one of its groups, would set, in grains; null takes it
    away."""

    product: str = Field(max_length=64)
    account: str = Field(max_length=64)
    group: str | None = Field(None, max_length=64)
    limit: int | None = Field(None, ge=0, le=10**15)


@routes.post("/preview", response_model=LimitPreview)
@reads_only
def preview_limit(body: LimitToTry, db: Db, who: Who) -> Any:
    """Whom a limit would put over or near it."""
    return asdict(db.snapshot(limits.preview, who, body.product, body.account, body.group, body.limit))


class FolderTermsBody(BaseModel):
    """What a shared folder is: who looks after it (a username of the account), the most it may store (grains; null = no
    limit of its own), whether that stops, and the group whose it is (a code; null = the account's)."""

    name: str = Field(max_length=200)
    owner: str | None = Field(None, max_length=128)
    limit: int | None = Field(None, ge=0, le=10**15)
    stops: bool = False
    group: str | None = Field(None, max_length=64)


class FolderBody(FolderTermsBody):
    """A folder as it stands; ``is_orphaned``: nobody of the account looks after it."""

    account: str
    code: str
    owner_name: str | None
    is_orphaned: bool
    archived_at: datetime | None
    delete_at: datetime | None


class FolderAct(BaseModel):
    """Archive a folder, open it again (also one that is to be deleted), have it deleted after the waiting time, or move
    it with its bytes to another account."""

    act: Literal["archive", "open", "delete", "move"]
    to_account: str | None = Field(None, max_length=64)


class FolderDone(BaseModel):
    """When it is gone, or how much was moved (grains)."""

    delete_at: datetime | None = None
    moved: int | None = None


FolderCode = Annotated[str, Path(max_length=64)]


@routes.get("/folders/{account}/{code}", response_model=FolderBody | None)
def shared_folder(db: Db, who: Who, account: FolderCode, code: FolderCode, product: Code) -> Any:
    """A shared folder; null where nobody made it here, though something may be stored in it."""
    found = db.snapshot(folders.known, who, product, [(account, code)]).get((account, code))
    if found is None:
        return None
    stands = {"account": account, "code": code, "owner_name": found.owner_name, "is_orphaned": found.is_orphaned}
    return asdict(found.terms) | stands | {"archived_at": found.archived_at, "delete_at": found.delete_at}


@routes.put("/folders/{account}/{code}", status_code=204)
def put_shared_folder(
    body: FolderTermsBody, db: Db, who: Who, account: FolderCode, code: FolderCode, product: Code
) -> None:
    """Make a shared folder, or change one."""
    terms = folders.FolderTerms(body.name, body.owner, body.limit, body.stops, body.group)
    db.run(folders.put, who, product, account, code, terms)


@routes.post("/folders/{account}/{code}", response_model=FolderDone)
def act_on_shared_folder(
    body: FolderAct, db: Db, who: Who, account: FolderCode, code: FolderCode, product: Code
) -> Any:
    """Archive, open, delete or move it."""
    if body.act == "move":
        return FolderDone(moved=db.run(folders.move, who, product, account, code, body.to_account or ""))
    state = STATE_AFTER[body.act]
    return FolderDone(delete_at=db.run(folders.set_state, who, product, account, code, state))


STATE_AFTER: dict[str, folders.State] = {"archive": "archived", "open": "open", "delete": "deleted"}


class LeftBehindAct(BaseModel):
    """What becomes of what somebody left behind: moved to a person of the branch or to a shared folder of the same
    account, deleted after so many days, or kept."""

    act: Literal["move", "delete", "keep"]
    person: str | None = Field(None, max_length=128)
    folder: str | None = Field(None, max_length=64)
    days: int = 30


class LeftBehindBody(BaseModel):
    """When it is gone; null where it stays."""

    delete_at: datetime | None


Name = Annotated[str, Path(max_length=128)]


@routes.get("/left-behind/{account}/{name}", response_model=LeftBehindBody)
def left_behind_of(db: Db, who: Who, account: FolderCode, name: Name, product: Code) -> Any:
    """When what somebody left behind is gone."""
    return LeftBehindBody(delete_at=db.snapshot(left_behind.delete_at, who, product, account, name))


@routes.post("/left-behind/{account}/{name}", response_model=FolderDone)
def act_on_left_behind(body: LeftBehindAct, db: Db, who: Who, account: FolderCode, name: Name, product: Code) -> Any:
    """Move, delete or keep what somebody left behind."""
    if body.act == "move":
        moved = db.run(left_behind.move, who, product, account, name, body.person or None, body.folder or None)
        return FolderDone(moved=moved)
    days = body.days if body.act == "delete" else None
    return FolderDone(delete_at=db.run(left_behind.delete_after, who, product, account, name, days))
