"""`python -m bench [NAME …]`: every measurement (or those named), as a table; each against something in the same
run."""

from __future__ import annotations

import sys

from rich.console import Console
from rich.table import Table

from bench import (
    admissions,
    beside,
    closing,
    correction,
    drafts,
    engine,
    forecast,
    grid,
    loading,
    people,
    people_import,
    permissions,
    samples,
    sessions,
    storage,
)
from bench.measured import Measure

ALL = {
    "engine": engine.measure,
    "admissions": admissions.measure,
    "beside": beside.measure,
    "closing": closing.measure,
    "correction": correction.measure,
    "drafts": drafts.measure,
    "forecast": forecast.measure,
    "loading": loading.measure,
    "grid": grid.measure,
    "people": people.measure,
    "people_import": people_import.measure,
    "permissions": permissions.measure,
    "samples": samples.measure,
    "sessions": sessions.measure,
    "storage": storage.measure,
}


def main() -> None:
    """Run what is named and print it."""
    table = Table("what", "ours", "against", "theirs", "ratio")
    for name in sys.argv[1:] or ALL:
        if name not in ALL:
            sys.exit(f"no measurement {name!r}; there are {', '.join(ALL)}")
        print(f"measuring: {name} …", file=sys.stderr, flush=True)
        rows: list[Measure] = ALL[name]()
        for row in rows:
            table.add_row(row.what, row.ours, row.against, row.theirs, row.ratio)
        table.add_section()
    Console(width=150).print(table)


if __name__ == "__main__":
    main()
