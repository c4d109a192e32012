"""Bringing people in from a table, over HTTP."""

from __future__ import annotations

from dataclasses import asdict
from datetime import date, datetime
from typing import Annotated, Any, Literal

from fastapi import BackgroundTasks, Body, Query, Response
from pydantic import BaseModel, Field

from fair_ladle.app.people_import import usecases
from fair_ladle.app.people_import.carrying_out import LEFT
from fair_ladle.app.people_import.planning import FIELDS, ImportChoices, Leaving
from fair_ladle.app.plumbing.days import Day
from fair_ladle.app.plumbing.exports import Format, sheet
from fair_ladle.app.plumbing.http import Db, Keyed, Who
from fair_ladle.app.plumbing.routing import Router

UPLOAD = "/api/people-imports"
routes = Router(UPLOAD, "people", sees="people.change", changes="people.change")
MOST_FAULTS = 5000


class ImportRow(BaseModel):
    """An import and how far it is."""

    id: int
    name: str
    at: datetime
    state: Literal["open", "planned", "running", "cancelled", "broken", "done"]
    count: int
    total: int
    done: int
    trouble: str | None
    on_day: date | None
    """The day on which a planned one begins."""


class BeginImport(BaseModel):
    """When an import of leavers begins; null = at once."""

    on: Day | None = None


class HowBody(BaseModel):
    """Which column (its place) is what, and what is done with whom."""

    columns: dict[str, int] = Field(max_length=60)
    account: str = Field("", max_length=64)
    known: Literal["update", "leave"] = "update"
    elsewhere: Literal["refuse", "update", "link"] = "refuse"
    joining: Literal["invited", "active"] = "invited"
    leaving: Leaving = ""
    groups: list[str] = Field([], max_length=50)
    products: list[str] = Field([], max_length=50)
    leave_out: list[int] = Field([], max_length=usecases.MOST_ROWS)
    leave_faults: bool = False

    def how(self) -> ImportChoices:
        """As the use-case has it."""
        given = self.model_dump()
        return ImportChoices(
            **{
                **given,
                "groups": tuple(self.groups),
                "products": tuple(self.products),
                "leave_out": tuple(sorted(set(self.leave_out))),
            }
        )


class FieldBody(BaseModel):
    """What a column can be."""

    key: str
    label: str


class RowFault(BaseModel):
    """What is wrong in a cell and what would be right."""

    row: int
    column: str
    found: str
    expected: str


class NeededBody(BaseModel):
    """Seats that rows ask for in an account, how many more it can take now (null = nothing in sight limits it), and
    whether that falls short."""

    account: str
    account_name: str
    product: str
    product_name: str
    needed: int
    left: int | None
    is_short: bool


class ConflictBody(BaseModel):
    """A product that a row asks for and its person cannot have, and why."""

    row: int
    name: str
    product: str
    why: str


class ImportStep(BaseModel):
    """What would be done with a row."""

    row: int
    do: Literal["create", "link", "update", "leave"]
    account: str
    account_name: str
    username: str
    name: str
    email: str


class ImportPreviewBody(ImportRow):
    """A table and what it comes to as it is mapped now; ``sample``: its first rows."""

    header: list[str]
    fields: list[FieldBody]
    how: HowBody
    sample: list[list[str]]
    counts: dict[str, int]
    faults: list[RowFault]
    fault_count: int
    seats: list[NeededBody]
    conflicts: list[ConflictBody]
    conflict_count: int
    steps: list[ImportStep]


class DoneRow(BaseModel):
    """What was done with a row, and what was not and why."""

    row: int
    username: str
    did: str
    why: str


class ReportBody(ImportRow):
    """An import with what it did: how many of what, and every row something was not done of."""

    counts: dict[str, int]
    not_done: list[DoneRow]
    leaves: bool
    """Whether it suspended or removed anybody, which can be reversed."""
    reversed_by: int | None


def _row(row: Any) -> dict[str, Any]:
    return {
        name: getattr(row, name)
        for name in ("id", "name", "at", "state", "count", "total", "done", "trouble", "on_day")
    }


def _looked(found: usecases.ImportPreview) -> ImportPreviewBody:
    return ImportPreviewBody(
        **_row(found.row),
        header=found.row.header,
        fields=[FieldBody(key=key, label=label) for key, (label, _) in FIELDS.items()],
        how=HowBody(**asdict(found.how)),
        sample=[
            [*cells[: len(found.row.header)], *[""] * (len(found.row.header) - len(cells))] for _, cells in found.sample
        ],
        counts=found.plan.counts(),
        faults=[
            RowFault(row=each.row or 0, column=each.column or "", found=each.found, expected=each.expected)
            for each in found.plan.faults[:MOST_FAULTS]
        ],
        fault_count=len(found.plan.faults),
        seats=[NeededBody(**asdict(each)) for each in found.seats],
        conflicts=[ConflictBody(**asdict(each)) for each in found.conflicts[:MOST_FAULTS]],
        conflict_count=len(found.conflicts),
        steps=[
            ImportStep(
                row=e.row,
                do=e.do,
                account=e.account,
                account_name=found.account_names[e.account],
                username=e.username,
                name=e.facts.get("display_name", ""),
                email=e.facts.get("email", ""),
            )
            for e in found.plan.steps[: usecases.MOST_STEPS]
        ],
    )


@routes.post("", response_model=ImportPreviewBody, status_code=201)
def receive(
    db: Db,
    who: Who,
    content: Annotated[bytes, Body(media_type="application/octet-stream")],
    name: str = Query(min_length=1, max_length=200),
) -> Any:
    """Keep a CSV file, a workbook, or what was pasted, and see what it comes to."""
    return _looked(db.run(usecases.preview, who, db.run(usecases.receive, who, name, content)))


@routes.get("", response_model=list[ImportRow])
def imports(db: Db, who: Who) -> Any:
    """One's own imports, the newest first."""
    return [ImportRow(**_row(row)) for row in db.run(usecases.imports, who)]


@routes.get("/{import_id}", response_model=ReportBody)
def report(import_id: int, db: Db, who: Who) -> Any:
    """How far an import is and what it did so far."""
    row, outcomes = db.run(usecases.one, who, import_id), db.run(usecases.outcomes, who, import_id)
    counts: dict[str, int] = {}
    for _, _, did, *_ in outcomes:
        counts[did] = counts.get(did, 0) + 1
    not_done = [
        DoneRow(row=number, username=username, did=did, why=why) for number, username, did, why, *_ in outcomes if why
    ]
    return ReportBody(
        **_row(row),
        counts=counts,
        not_done=not_done[:MOST_FAULTS],
        leaves=any(counts.get(each) for each in LEFT.values()),
        reversed_by=row.reversed_by,
    )


@routes.get("/{import_id}/preview", response_model=ImportPreviewBody)
def preview(import_id: int, db: Db, who: Who) -> Any:
    """What an import that has not begun comes to."""
    return _looked(db.run(usecases.preview, who, import_id))


@routes.put("/{import_id}", response_model=ImportPreviewBody)
def change(import_id: int, body: HowBody, db: Db, who: Who) -> Any:
    """Map the columns otherwise, or choose otherwise what is done."""
    return _looked(db.run(usecases.preview, who, import_id, body.how()))


@routes.post("/{import_id}/begin", response_model=ImportRow)
def begin(import_id: int, db: Keyed, who: Who, after: BackgroundTasks, body: BeginImport | None = None) -> Any:
    """Start, for leavers by choice on a day ahead; it goes on by itself."""
    db.run(usecases.begin, who, import_id, body.on if body else None)
    after.add_task(usecases.work, db.database, import_id)
    return ImportRow(**_row(db.run(usecases.one, who, import_id)))


@routes.post("/{import_id}/cancel", response_model=ImportRow)
def cancel(import_id: int, db: Db, who: Who) -> Any:
    """Stop after the part under way; one that is planned can be changed again."""
    db.run(usecases.cancel, who, import_id)
    return ImportRow(**_row(db.run(usecases.one, who, import_id)))


@routes.post("/{import_id}/resume", response_model=ImportRow)
def resume(import_id: int, db: Keyed, who: Who, after: BackgroundTasks) -> Any:
    """Go on where it was stopped or broke off."""
    db.run(usecases.resume, who, import_id)
    after.add_task(usecases.work, db.database, import_id)
    return ImportRow(**_row(db.run(usecases.one, who, import_id)))


@routes.post("/{import_id}/reverse", response_model=ImportRow, status_code=201)
def reverse(import_id: int, db: Keyed, who: Who, after: BackgroundTasks) -> Any:
    """Bring back those whom it suspended or removed; it goes on by itself, as an import of its own."""
    new = db.run(usecases.reverse, who, import_id)
    after.add_task(usecases.work, db.database, new)
    return ImportRow(**_row(db.run(usecases.one, who, new)))


@routes.delete("/{import_id}", status_code=204)
def forget(import_id: int, db: Db, who: Who) -> None:
    """Put an import away; who came by it stays."""
    db.run(usecases.forget, who, import_id)


@routes.get("/{import_id}/export", response_class=Response)
def export(import_id: int, db: Db, who: Who, form: Format) -> Response:
    """Row by row what was done; before it is begun, every fault."""
    if db.run(usecases.one, who, import_id).state == "open":
        faults = db.run(usecases.preview, who, import_id).plan.faults
        return sheet(
            "faults",
            form,
            ["row", "column", "found", "expected"],
            [[each.row, each.column, each.found, each.expected] for each in faults],
        )
    outcomes = db.run(usecases.outcomes, who, import_id)
    return sheet("brought-in", form, ["row", "username", "done", "not done"], [row[:4] for row in outcomes])
