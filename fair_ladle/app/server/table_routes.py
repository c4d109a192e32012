"""A table that is on the screen whole, as a file to keep."""

from __future__ import annotations

from decimal import Decimal
from typing import Annotated

from fastapi import Response
from pydantic import BaseModel, Field

from fair_ladle.app.plumbing.exports import Form, sheet
from fair_ladle.app.plumbing.http import Who
from fair_ladle.app.plumbing.permissions import OWN
from fair_ladle.app.plumbing.routing import Router, reads_only

routes = Router("/api/tables", "tables", sees=OWN, changes=OWN)

Text = Annotated[str, Field(max_length=2000)]
Figure = Annotated[str, Field(pattern=r"^-?[0-9]{1,15}(\.[0-9]{1,6})?$")]


class FigureBody(BaseModel):
    """A cell that is a figure."""

    figure: Figure


class TableBody(BaseModel):
    """A table as it is shown: its name, what heads its columns, and its cells, figures apart from text."""

    name: str = Field(pattern=r"^[a-z0-9-]{1,60}$")
    columns: list[Text] = Field(min_length=1, max_length=60)
    rows: list[Annotated[list[Text | FigureBody], Field(max_length=60)]] = Field(max_length=5000)


@routes.post("/xlsx", response_class=Response)
@reads_only
def workbook(body: TableBody, who: Who) -> Response:
    """The table as a workbook; nothing is looked up and nothing kept."""
    return sheet(
        body.name,
        Form("xlsx"),
        body.columns,
        ([Decimal(cell.figure) if isinstance(cell, FigureBody) else cell for cell in row] for row in body.rows),
    )
