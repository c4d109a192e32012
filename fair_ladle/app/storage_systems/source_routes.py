"""Systems that are asked what they store, and tables of sizes that are uploaded, over HTTP."""

from __future__ import annotations

from dataclasses import asdict
from datetime import datetime
from typing import Annotated, Any, Literal

from fastapi import Body, Depends, Query
from pydantic import BaseModel, Field

from fair_ladle.app.plumbing.http import Db, FileFault, Who
from fair_ladle.app.plumbing.routing import Router, reads_only
from fair_ladle.app.storage_systems import sources, tables_in
from fair_ladle.app.storage_systems.sources import SourceTerms

UPLOAD = "/api/storage-tables"
routes = Router("/api/storage-sources", "storage", sees="devices.see", changes="devices.change")
table_routes = Router(UPLOAD, "storage", sees="devices.see", changes="devices.change")


class SourceTermsBody(BaseModel):
    """What a source is; see the settings of its kind. Folders are the operator's alone."""

    account: str = Field(max_length=64)
    product: str = Field(max_length=64)
    kind: Literal["imap", "objects", "tree", "drop"]
    name: str = Field(max_length=200)
    every_minutes: int = 60
    host: str | None = Field(None, max_length=253)
    port: int | None = Field(None, ge=1, le=65535)
    security: Literal["tls", "starttls", "none"] | None = None
    master: str | None = Field(None, max_length=128)
    access_key: str | None = Field(None, max_length=128)
    region: str | None = Field(None, max_length=64)
    bucket: str | None = Field(None, max_length=63)
    prefix: str | None = Field(None, max_length=500)
    folder: str | None = Field(None, max_length=1000)
    pace: int | None = Field(None, ge=1, le=10_000_000)
    subjects: Literal["people", "accounts"] = "people"
    by_email: bool = False
    sets_limits: bool = False
    paused: bool = False


class SourceWanted(SourceTermsBody):
    """The same with a password, which is never told again; null = as it was."""

    password: str | None = Field(None, max_length=1000)


class RunBody(BaseModel):
    """A run: how many subjects were read, recorded and limited, and what went wrong, the first of it in words."""

    kind: Literal["full", "between", "dry"]
    began_at: datetime
    ended_at: datetime | None
    outcome: Literal["done", "stopped", "failed"] | None
    found: int
    recorded: int
    limited: int
    troubles: int
    says: str


class SourceBody(BaseModel):
    """A source with its newest runs."""

    number: int
    terms: SourceTermsBody
    account_name: str
    product_name: str
    has_password: bool
    due_at: datetime
    failures: int
    full_at: datetime | None
    runs: list[RunBody]


class SourceMade(BaseModel):
    """The number of a source."""

    number: int


@routes.get("", response_model=list[SourceBody])
def storage_sources(db: Db, who: Who) -> Any:
    """The sources of one's branch."""
    return [
        SourceBody(
            number=each.number,
            terms=SourceTermsBody(**asdict(each.terms)),
            account_name=each.account_name,
            product_name=each.product.name,
            has_password=each.has_password,
            due_at=each.due_at,
            failures=each.failures,
            full_at=each.full_at,
            runs=[
                RunBody(
                    kind=run.row.kind,
                    began_at=run.row.began_at,
                    ended_at=run.row.ended_at,
                    outcome=run.row.outcome,
                    found=run.row.found,
                    recorded=run.row.recorded,
                    limited=run.row.limited,
                    troubles=run.row.troubles,
                    says=run.row.says,
                )
                for run in each.runs
            ],
        )
        for each in db.snapshot(sources.listing, who)
    ]


def _terms(body: SourceWanted) -> SourceTerms:
    return SourceTerms(**body.model_dump(exclude={"password"}))


@routes.post("", response_model=SourceMade, status_code=201)
def make_source(body: SourceWanted, db: Db, who: Who) -> Any:
    """A new source."""
    return SourceMade(number=db.run(sources.put, who, None, _terms(body), body.password))


@routes.put("/{number}", response_model=SourceMade)
def change_source(number: int, body: SourceWanted, db: Db, who: Who) -> Any:
    """Change a source."""
    return SourceMade(number=db.run(sources.put, who, number, _terms(body), body.password))


@routes.delete("/{number}", status_code=204)
def remove_source(number: int, db: Db, who: Who) -> None:
    """Ask a source no longer; what it said stays."""
    db.run(sources.drop, who, number)


@routes.post("/{number}/run", status_code=204)
def run_source(number: int, db: Db, who: Who, dry: bool = False) -> None:
    """Have a source read as soon as may be; dry: nothing is recorded or set."""
    db.run(sources.run_now, who, number, dry)


class SizesTable(BaseModel):
    """A table of sizes as it is understood: its columns, how many rows are sizes, and faults; ``recorded`` is null
    where nothing was asked to be."""

    header: list[str]
    columns: dict[str, int]
    rows: int
    fault_count: int
    faults: list[FileFault]
    recorded: int | None


Place = Annotated[int | None, Query(ge=0, le=500)]


def _columns(
    column_account: Place = None,
    column_product: Place = None,
    person: Place = None,
    folder: Place = None,
    category: Place = None,
    at: Place = None,
    bytes: Place = None,
    used_at: Place = None,
) -> dict[str, int]:
    """Which column is what, as far as it was said."""
    said = {"account": column_account, "product": column_product, "person": person, "folder": folder}
    said |= {"category": category, "at": at, "bytes": bytes, "used_at": used_at}
    return {what: place for what, place in said.items() if place is not None}


Columns = Annotated[dict[str, int], Depends(_columns)]


@table_routes.post("/read", response_model=SizesTable)
@reads_only
def read_table(
    db: Db,
    who: Who,
    content: Annotated[bytes, Body(media_type="application/octet-stream")],
    product: Annotated[str, Query(max_length=64)],
    account: Annotated[str, Query(max_length=64)],
    name: Annotated[str, Query(min_length=1, max_length=200)],
    columns: Columns,
) -> Any:
    """A table of sizes (CSV, XLSX or JSON lines) as it would be recorded; nothing is."""
    found = tables_in.read(name, content, columns, db.clock.now())
    faults, count = list(found.faults), found.fault_count
    if not faults and found.rows:
        wrong = db.snapshot(tables_in.without_place, who, product, account, found.rows)
        faults, count = wrong, len(wrong)
    return _table(found, faults, count, None)


@table_routes.post("", response_model=SizesTable)
def record_table(
    db: Db,
    who: Who,
    content: Annotated[bytes, Body(media_type="application/octet-stream")],
    product: Annotated[str, Query(max_length=64)],
    account: Annotated[str, Query(max_length=64)],
    name: Annotated[str, Query(min_length=1, max_length=200)],
    columns: Columns,
) -> Any:
    """Record a table of sizes, all of it or, with a fault, nothing."""
    found = tables_in.read(name, content, columns, db.clock.now())
    if found.faults:
        return _table(found, found.faults, found.fault_count, 0)
    recorded, faults = db.run(tables_in.record, who, product, account, found.rows)
    return _table(found, faults, len(faults), recorded)


def _table(found: tables_in.Read, faults: list[tables_in.RowFault], count: int, recorded: int | None) -> SizesTable:
    return SizesTable(
        header=found.header,
        columns=found.columns,
        rows=len(found.rows),
        fault_count=count,
        faults=[FileFault(**asdict(each)) for each in faults[: tables_in.MOST_FAULTS]],
        recorded=recorded,
    )
