"""Loading the demo: its intake, who can sign in as whom, and a clock that starts where the intake ends."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.enforcement.enforcing import enforce_all
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.installation import is_demo, set_demo_clock
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.app.sign_in import usecases as sign_in
from fair_ladle.connectors.sheets_in import read_source
from fair_ladle.demo import reporting
from fair_ladle.demo.life import BEGAN, live

STARTS_AT = datetime(2026, 11, 24, 12, 0, tzinfo=UTC)
INTAKE = Path(__file__).parent / "intake"
PEOPLE = (
    ("admin.gannet@gannet.example", "Ines Vane", "GANNET", "the operator's admin"),
    ("admin.bramble@bramble.example", "Otis Calder", "BRAMBLE", "a reseller's admin"),
    ("admin.oldquay@oldquay.example", "Maren Tove", "OLDQUAY", "a client's admin"),
)
WORDS = (
    "amber",
    "anchor",
    "birch",
    "candle",
    "clover",
    "copper",
    "ember",
    "fennel",
    "gravel",
    "harbour",
    "kettle",
    "lantern",
    "meadow",
    "needle",
    "oyster",
    "pebble",
    "quarry",
    "ribbon",
    "saddle",
    "thimble",
    "walnut",
    "willow",
)


class NotADemo(RuntimeError):
    """The home holds somebody's own data."""


def prepare(database: Database, home: Path, report: Callable[[str], None]) -> list[tuple[str, str, str]]:
    """Load the demo where there is nothing yet, let its clock run, and say who can sign in:
    (address, password, as whom)."""
    with database.transaction() as tx:
        empty = not accounts_service.ids_by_code(tx)
    if not empty and not is_demo(database):
        raise NotADemo(
            "This home holds data of your own, not the demo. Serve it with `./fair-ladle serve`, "
            "or point FAIR_LADLE_HOME somewhere else for the demo."
        )
    kept = home / "demo-sign-ins.txt"
    if empty or not kept.exists():
        signs = [(email, "-".join(secrets.choice(WORDS) for _ in range(4)), whom) for email, _, _, whom in PEOPLE]
        database.clock.set_to(STARTS_AT - timedelta(days=BEGAN))
        database.run(_load, signs, report)
        report("Doing an autumn's work")
        live(database, STARTS_AT)
        report("Looking at clocks, holds and thresholds")
        enforce_all(database)
        kept.touch(mode=0o600)
        kept.write_text("".join(f"{email}\t{password}\t{whom}\n" for email, password, whom in signs))
    database.run(sign_in_service.start_demo_clock, STARTS_AT)
    set_demo_clock(database)
    reporting.set_up(database, home)
    report("Counting what is in use")
    database.run(assignments.rebuild_stale)
    return [tuple(line.split("\t")) for line in kept.read_text().splitlines()]  # type: ignore[misc]


def _load(tx: Transaction, signs: list[tuple[str, str, str]], report: Callable[[str], None]) -> None:
    report("Loading the demo")
    data_import.load(
        tx, COMMAND_LINE, read_source(INTAKE), lambda what, done: report(f"  {what}") if not done else None
    )
    for (email, name, account, _), (_, password, _) in zip(PEOPLE, signs, strict=True):
        sign_in.give_sign_in(tx, COMMAND_LINE, email, name, account, password)
