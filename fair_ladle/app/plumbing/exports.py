"""Tables as files: what they are sent as, with which of their columns, and how they are sent."""

from __future__ import annotations

from collections.abc import Generator, Iterable, Sequence
from dataclasses import dataclass
from itertools import chain
from typing import Annotated, Literal

from anyio import CancelScope, to_thread
from fastapi import Depends, Query, Response
from fastapi.responses import JSONResponse, StreamingResponse
from starlette.types import Receive, Scope, Send

from fair_ladle.app.plumbing.http import attachment
from fair_ladle.app.plumbing.problems import invalid
from fair_ladle.connectors.sheets_out import TYPES, Cell, Totals, csv_parts, print_parts, xlsx_parts

Kind = Literal["csv", "xlsx", "tsv", "print", "columns"]
MOST_COLUMNS, LONGEST = 60, 200


@dataclass(frozen=True)
class Form:
    """What a table is sent as: tsv is for the clipboard, print for a browser to print, columns what its columns are
    called and nothing else; and which of its columns, all where none is named."""

    kind: Kind
    columns: frozenset[str] = frozenset()


async def form_asked(
    form: Kind = "csv", column: list[Annotated[str, Query(max_length=LONGEST)]] = Query([], max_length=MOST_COLUMNS)
) -> Form:
    """What a request wants a table sent as."""
    return Form(form, frozenset(column))


Format = Annotated[Form, Depends(form_asked)]


def sheet(
    name: str, form: Form, columns: Sequence[str], rows: Iterable[Sequence[Cell]], totals: Totals | None = None
) -> Response:
    """A table as a file to keep, sent as its rows come: whoever leaves ends it. What is refused is so before it
    begins. ``totals`` have a workbook and what is printed, where the columns they are made of are there."""
    if form.kind == "columns":
        return JSONResponse(list(columns))
    if form.columns:
        kept = [place for place, each in enumerate(columns) if each in form.columns]
        if not kept:
            raise invalid(f"None of these columns is there; there are {', '.join(columns)}.", "column")
        totals = None if totals is None else totals.within([columns[place] for place in kept])
        columns, rows = [columns[place] for place in kept], ([row[place] for place in kept] for row in rows)
    match form.kind:
        case "xlsx":
            parts = xlsx_parts(name, columns, rows, totals)
        case "print":
            return Streamed(print_parts(columns, rows, totals), TYPES["print"], {})
        case _:
            parts = csv_parts(columns, rows, "\t" if form.kind == "tsv" else ",")
    return Streamed(parts, TYPES[form.kind], attachment(f"{name}.{form.kind}"))


class Streamed(StreamingResponse):
    """An answer that is made while it is sent. However it ends, what makes it ends with it."""

    def __init__(self, parts: Generator[bytes], media_type: str, headers: dict[str, str]):
        first = next(parts)
        super().__init__(chain([first], parts), media_type=media_type, headers=headers)
        self._parts = parts

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Send it."""
        try:
            await super().__call__(scope, receive, send)
        finally:
            with CancelScope(shield=True):
                await to_thread.run_sync(self._parts.close)
