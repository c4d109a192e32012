"""Charges, discounts, credits, tax and exchange rates, made and changed by hand. Cells are as an intake has them."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from fastapi import Response
from pydantic import BaseModel, Field

from fair_ladle.app.data_import import terms_admin
from fair_ladle.app.plumbing.http import Db, Keyed, Who
from fair_ladle.app.plumbing.routing import Router

routes = Router("/api/terms", "statements", sees="statements.see", changes="accounts.change")
Table = Literal["charges", "discounts", "credits", "tax_rates", "exchange_rates"]
CellsBody = dict[Annotated[str, Field(max_length=20)], Annotated[str, Field(max_length=250)]]


class TermsTable(BaseModel):
    """The rows of a table, and which of their cells name a row."""

    table: Table
    key: list[str]
    columns: list[str]
    rows: list[dict[str, str]]


class TermsRow(BaseModel):
    """A row, or what names one."""

    cells: CellsBody = Field(max_length=20)


@routes.get("/{seller}", response_model=list[TermsTable])
def terms(db: Db, who: Who, seller: str) -> Any:
    """What a seller charges, gives off and taxes besides its prices."""
    return [
        {
            "table": table,
            "key": list(terms_admin.KEYS[table]),
            "columns": list(terms_admin.COLUMNS[table]),
            "rows": rows,
        }
        for table, rows in db.snapshot(terms_admin.rows, who, seller).items()
    ]


@routes.put("/{seller}/{table}", status_code=204, response_class=Response)
def put(db: Keyed, who: Who, seller: str, table: Table, body: TermsRow) -> Response:
    """Make a row, or change that of the same key."""
    db.run(terms_admin.put, who, seller, table, body.cells)
    return Response(status_code=204)


@routes.post("/{seller}/{table}/remove", status_code=204, response_class=Response)
def remove(db: Keyed, who: Who, seller: str, table: Table, body: TermsRow) -> Response:
    """Take a row out, by its key."""
    db.run(terms_admin.drop, who, seller, table, body.cells)
    return Response(status_code=204)
