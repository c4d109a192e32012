"""What judging permissions costs a request: the same requests with and without it, in turns."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from typing import Any

import sqlalchemy as sa
from fastapi import FastAPI
from fastapi.testclient import TestClient

from bench.home import new_database, server
from bench.measured import Measure
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.permissions import EVERYTHING
from fair_ladle.app.sign_in import delegating, roles, service, store, usecases
from fair_ladle.connectors.sheets_in import read_source
from fair_ladle.demo.load import INTAKE
from fair_ladle.main import create_app

ASKED = ("/api/delegations", "/api/pools", "/api/people?limit=50", "/api/log", "/api/allocations")
TIMES = 150
PASSWORD = "a-long-enough-passphrase"


def _without(app: FastAPI) -> tuple[Callable[[], None], Callable[[], None]]:
    """Switches that leave out, and put back, all that judges what a role may do."""
    judging = [
        each.call
        for route in app.routes
        for each in getattr(getattr(route, "dependant", None), "dependencies", [])
        if getattr(each.call, "__qualname__", "").startswith("_holds")
    ]
    nothing = sa.literal(0).label("lacks_second_factor")
    real: tuple[Any, Any] = (service.permissions_of, store.LACKS_SECOND_FACTOR)

    def off() -> None:
        app.dependency_overrides.update({each: lambda: None for each in judging})
        service.permissions_of, store.LACKS_SECOND_FACTOR = (lambda *_: EVERYTHING), nothing  # type: ignore[assignment]

    def on() -> None:
        app.dependency_overrides.clear()
        service.permissions_of, store.LACKS_SECOND_FACTOR = real

    return off, on


def measure() -> list[Measure]:
    """Medians of each request, as somebody with a composed role and as one with a ready-made one."""
    found = []
    with server() as own:
        database = new_database(own)
        database.run(data_import.load, COMMAND_LINE, read_source(INTAKE))
        composed = database.run(roles.put, COMMAND_LINE, None, "All", sorted(EVERYTHING))
        for role in ("admin", str(composed)):
            wanted = delegating.Wanted(f"{role}@x.example", "X", "GANNET", role)
            database.run(delegating.give, COMMAND_LINE, wanted)
            database.run(usecases.give_sign_in, COMMAND_LINE, wanted.email, "X", "GANNET", PASSWORD)
            app = create_app(database)
            app.state.database = database
            client = TestClient(app)
            client.post("/api/sign-in", json={"email": wanted.email, "password": PASSWORD}).raise_for_status()
            off, on = _without(app)
            for path in ASKED:
                took: dict[Callable[[], None], list[float]] = {off: [], on: []}
                for _ in range(TIMES):
                    for switch in (off, on):
                        switch()
                        begin = time.perf_counter()
                        client.get(path).raise_for_status()
                        took[switch].append(time.perf_counter() - begin)
                ours, theirs = (statistics.median(took[each][10:]) * 1000 for each in (on, off))
                what = f"{path.split('?')[0]}, {'ready-made' if role == 'admin' else 'composed'} role"
                share = f"{100 * (ours / theirs - 1):+.1f} %"
                found.append(Measure(what, f"{ours:.2f} ms", "without judging", f"{theirs:.2f} ms", share))
    return found
