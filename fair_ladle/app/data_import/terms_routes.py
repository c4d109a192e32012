"""Charges, discounts, credits, tax and exchange rates, made and changed by hand or from a file. Cells are as an intake
has them."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from fastapi import Body, Query, Response
from pydantic import BaseModel, Field

from fair_ladle.app.data_import import terms_admin
from fair_ladle.app.plumbing.exports import Format, sheet
from fair_ladle.app.plumbing.foreign import table_of
from fair_ladle.app.plumbing.http import Db, FileFault, Keyed, Who
from fair_ladle.app.plumbing.routing import Router

FILES = "/api/terms-files"
MOST_FAULTS = 100
routes = Router("/api/terms", "statements", sees="statements.see", changes="accounts.change")
files = Router(FILES, "statements", sees="statements.see", changes="accounts.change")
Table = Literal["charges", "discounts", "credits", "tax_rates", "exchange_rates"]
CellsBody = dict[Annotated[str, Field(max_length=20)], Annotated[str, Field(max_length=250)]]


class TermsTable(BaseModel):
    """A table: its cells, those that name a row, and how many rows it has."""

    table: Table
    key: list[str]
    columns: list[str]
    total: int


class TermsRows(BaseModel):
    """Rows of a table, how many there are in all, and what the buyers in them are called, by their codes."""

    total: int
    rows: list[dict[str, str]]
    names: dict[str, str]


class TermsRow(BaseModel):
    """A row, or what names one."""

    cells: CellsBody = Field(max_length=20)


class LoadedTerms(BaseModel):
    """What became of the rows of a file; where there are faults, nothing."""

    created: int
    changed: int
    left: int
    fault_count: int
    faults: list[FileFault]


@routes.get("/{seller}", response_model=list[TermsTable])
def tables(db: Db, who: Who, seller: str) -> Any:
    """The tables of what a seller charges, gives off and taxes besides its prices."""
    return [
        {
            "table": table,
            "key": list(terms_admin.KEYS[table]),
            "columns": list(terms_admin.COLUMNS[table]),
            "total": total,
        }
        for table, total in db.snapshot(terms_admin.counts, who, seller).items()
    ]


Find = Annotated[str, Query(max_length=200)]


@routes.get("/{seller}/{table}", response_model=TermsRows)
def rows(
    db: Db,
    who: Who,
    seller: str,
    table: Table,
    find: Find = "",
    offset: int = Query(0, ge=0, le=1_000_000),
    limit: int = Query(100, ge=0, le=500),
) -> Any:
    """Rows of a table, the newest first; with ``find`` those in which each of its words stands."""
    found = db.snapshot(terms_admin.rows, who, seller, table, find, offset, limit)
    return TermsRows(total=found.total, rows=found.rows, names=found.names)


@routes.get("/{seller}/{table}/export", response_class=Response)
def export_terms(db: Db, who: Who, form: Format, seller: str, table: Table, find: Find = "") -> Response:
    """All rows of a table, or those asked for, as a file that can be loaded again."""
    columns = terms_admin.COLUMNS[table]
    db.snapshot(terms_admin.rows, who, seller, table, find, 0, 0)
    rows = ([row[name] for name in columns] for row in db.stream(terms_admin.every, who, seller, table, find))
    return sheet(f"{table.replace('_', '-')}-{seller}", form, columns, rows)


@routes.put("/{seller}/{table}", status_code=204, response_class=Response)
def put(db: Keyed, who: Who, seller: str, table: Table, body: TermsRow, new: bool = False) -> Response:
    """Make a row, or change that of the same key; ``new`` refuses one that is there."""
    db.run(terms_admin.put, who, seller, table, body.cells, new)
    return Response(status_code=204)


@files.post("", response_model=LoadedTerms)
def load(
    db: Keyed,
    who: Who,
    content: Annotated[bytes, Body(media_type="application/octet-stream")],
    seller: str = Query(max_length=64),
    table: Table = Query(),
    name: str = Query(min_length=1, max_length=200),
) -> Any:
    """Make and change the rows of a file (CSV or XLSX, columns as in an intake): all, or none where something is
    wrong."""
    merged, faults = db.run(terms_admin.load, who, seller, table, table_of(name, content))
    return LoadedTerms(
        created=merged.created,
        changed=merged.changed,
        left=merged.left,
        fault_count=len(faults),
        faults=[
            FileFault(row=each.row, column=each.column, found=each.found, expected=each.expected)
            for each in faults[:MOST_FAULTS]
        ],
    )


@routes.post("/{seller}/{table}/remove", status_code=204, response_class=Response)
def remove(db: Keyed, who: Who, seller: str, table: Table, body: TermsRow) -> Response:
    """Take a row out, by its key."""
    db.run(terms_admin.drop, who, seller, table, body.cells)
    return Response(status_code=204)
