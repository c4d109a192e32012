"""What a keystroke in a draft costs the server: keeping the change and all of its effect, as the browser asks for
it."""

from __future__ import annotations

import time
from itertools import count

from bench.home import new_database, server
from bench.loading import assignments, intake_of
from bench.measured import Measure
from fair_ladle.app.allocations import views
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import AllocationChange
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.drafts.routes import effect_body
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.sign_in import usecases as sign_in
from fair_ladle.connectors.sheets_in import SheetTable


def _keystrokes(clients: int, products: int) -> tuple[float, float, int]:
    """Seconds of a keystroke (the middle of 9), seconds of one settle of what it touches, and the number of
    accounts."""
    with server() as home:
        database = new_database(home)
        everything = intake_of(clients, products)
        everything.add(
            "assignments",
            SheetTable(
                "assignments", ["account", "product", "subject", "from", "to"], assignments(clients, products, 50_000)
            ),
        )
        database.run(data_import.load, COMMAND_LINE, everything)
        database.run(sign_in.give_sign_in, COMMAND_LINE, "msp@x.example", "Ines", "MSP", "only-for-this-measurement")
        who = Actor("Ines", "msp@x.example", "MSP", 1)
        with database.transaction() as tx:
            there = views.terms(tx, who, [("C1", "P1")])[0].version
        was = terms_of(there)
        assert was is not None
        revision, cap = count(), count(401)

        def keystroke(tx: Transaction) -> str:
            change = AllocationChange(
                account="C1",
                product="P1",
                terms=was.model_copy(update={"cap": next(cap), "reserve": next(cap) - 380}),
                seen=there.id,
                was=was,
            )
            draft = drafts.edit(tx, who, None, next(revision), [change])
            return effect_body(drafts.preview(tx, who, draft.changes), who).model_dump_json()

        found = []
        for _ in range(9):
            begin = time.perf_counter()
            database.run(keystroke)
            found.append(time.perf_counter() - begin)
        settle = _settled(database, who)
        database.engine.dispose()
    return sorted(found)[4], settle, clients * 5 + 1


def _settled(database: Database, who: Actor) -> float:
    with database.transaction() as tx:
        begin = time.perf_counter()
        views.grid(tx, who, ["P1"])
        return time.perf_counter() - begin


def measure() -> list[Measure]:
    """At 5,000 accounts × 20 pools, and at 100,000 accounts."""
    rows = []
    for clients, products, most in ((1000, 20, 150), (20_000, 2, 1000)):
        typed, settled, accounts = _keystrokes(clients, products)
        name = f"draft effect of a keystroke, {accounts:,} accounts × {products} pools"
        rows.append(Measure(name, f"{typed * 1000:.0f} ms", "at most", f"{most} ms", f"{typed * 1000 / most:.2f}"))
        rows.append(
            Measure(
                name,
                f"{typed * 1000:.0f} ms",
                "the grid's column alone",
                f"{settled * 1000:.0f} ms",
                f"{typed / settled:.2f}",
            )
        )
    return rows
