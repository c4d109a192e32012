"""Charges, discounts, credits, tax and exchange rates, made and changed by hand or from a file. Cells are as an intake
has them."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from fastapi import Body, Query, Response
from pydantic import BaseModel, Field

from fair_ladle.app.data_import import terms_admin
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
    """The rows of a table, and which of their cells name a row."""

    table: Table
    key: list[str]
    columns: list[str]
    rows: list[dict[str, str]]


class TermsTables(BaseModel):
    """What a seller charges besides its prices, and what the buyers in it are called, by their codes."""

    tables: list[TermsTable]
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


@routes.get("/{seller}", response_model=TermsTables)
def terms(db: Db, who: Who, seller: str) -> Any:
    """What a seller charges, gives off and taxes besides its prices."""
    found, names = db.snapshot(terms_admin.rows, who, seller)
    tables = [
        {
            "table": table,
            "key": list(terms_admin.KEYS[table]),
            "columns": list(terms_admin.COLUMNS[table]),
            "rows": rows,
        }
        for table, rows in found.items()
    ]
    return {"tables": tables, "names": names}


@routes.put("/{seller}/{table}", status_code=204, response_class=Response)
def put(db: Keyed, who: Who, seller: str, table: Table, body: TermsRow) -> Response:
    """Make a row, or change that of the same key."""
    db.run(terms_admin.put, who, seller, table, body.cells)
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
