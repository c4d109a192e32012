"""Files of other houses: which column is what by its name, and figures as they write them."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from decimal import Decimal, InvalidOperation

from fair_ladle.app.plumbing.problems import invalid
from fair_ladle.connectors.sheets_in import SheetTable, Unreadable, read_table

MOST = Decimal(10) ** 15


def columns_by_name(header: Sequence[str], names: Mapping[str, Sequence[str]]) -> dict[str, int]:
    """The places of columns by what they are, as far as they have one of these names."""
    lowered = [each.strip().lower() for each in header]
    found: dict[str, int] = {}
    for what, called in names.items():
        place = next((lowered.index(name) for name in called if name in lowered), None)
        if place is not None:
            found[what] = place
    return found


def decimal_mark(amounts: Sequence[str]) -> str:
    """The mark that stands before the last one or two digits of most amounts."""
    marks = Counter(found[1] for each in amounts if (found := re.search(r"([.,])\d{1,2}$", each.strip())))
    return marks.most_common(1)[0][0] if marks else "."


def amount(text: str, mark: str) -> Decimal | None:
    """An amount with this decimal mark, whatever stands between its thousands; None where it is none."""
    plain = re.sub(r"[\s\u00a0\u202f'+]", "", text).replace("\u2212", "-")
    plain = plain.replace("," if mark == "." else ".", "").replace(mark, ".")
    try:
        found = Decimal(plain)
    except InvalidOperation:
        return None
    return found if found.is_finite() and abs(found) < MOST else None


def table_of(name: str, content: bytes) -> SheetTable:
    """The table of an uploaded file (CSV or XLSX); refused with its place where it cannot be read."""
    try:
        return read_table(name, content)
    except Unreadable as trouble:
        fault = trouble.faults[0]
        where = f"{fault.file}, row {fault.row or 1}"
        raise invalid(f"{where}: {fault.found}; expected {fault.expected}.", "file") from None
