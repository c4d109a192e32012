"""What a day's readers wait for while others write: the 95th percentile of each kind of request, and memory.

Standing apart like `bench.http`, whose homes it uses: `python -m bench.mixed ACCOUNTS SECONDS`. Sixteen readers with a
second's thought ask for random accounts, days and filters; beside them eight admissions or releases, one change of a
person and one grid edit of two cells a second, and the twenty cells applied each ten seconds.
"""

from __future__ import annotations

import http.client
import json
import os
import random
import sys
import tempfile
import threading
import time
import uuid
from collections import defaultdict
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path
from typing import Any
from urllib.parse import quote

from rich.console import Console
from rich.table import Table

from bench.http import PORT, ROLES, _memory, asked, home_of, month, serving, signed_in, ten_days_ago
from bench.installation import SEATS, TITLES, Size
from bench.served import Caller

READERS, THINKS = 16, 1.0
KEPT_SECONDS = 90.0
"""Before the first figure: what a server makes when it is first asked is made, and its jobs have gone through all of it
once."""


class Mixed:
    """Everybody, and what each waited."""

    def __init__(self, size: Size):
        self.size = size
        self.departments = min(100, size.accounts // 8)
        self.signed_in = {role: signed_in(email) for role, (email, _) in ROLES.items()}
        self.took: dict[str, list[float]] = defaultdict(list)
        self.failed: dict[str, int] = defaultdict(int)
        self.why: dict[str, str] = {}
        self.counts = False
        self.stop = threading.Event()

    def caller(self, role: str) -> Caller:
        """One more of a role, over a connection of its own."""
        return Caller(PORT, self.signed_in[role].headers)

    def _ask(self, caller: Caller, kind: str, method: str, path: str, body: Any = None) -> Any:
        caller.headers["Idempotency-Key"] = str(uuid.uuid4())
        began = time.perf_counter()
        try:
            status, _, found = caller.ask(method, path, body, zipped=method == "GET" and kind != "open draft")
        except (http.client.RemoteDisconnected, ConnectionResetError):  # it was idle for longer than is kept open
            caller.connection.close()
            status, _, found = caller.ask(method, path, body, zipped=method == "GET" and kind != "open draft")
        if self.counts:
            self.took[kind].append(time.perf_counter() - began)
            if status != 200:
                self.failed[kind] += 1
                self.why.setdefault(kind, f"{status} {found[:200]!r}")
        return json.loads(found) if status == 200 and (method != "GET" or kind == "open draft") else None

    def _wanted(self, chance: random.Random, role: str) -> dict[str, str]:
        """A request of each kind: as the operator for any client, as a client's admin for any of its departments."""
        client = f"C{chance.randrange(self.size.clients)}" if role == "operator" else "C0"
        place = client if role == "operator" else f"C0-{chance.randrange(1, self.departments)}"
        product, person = chance.choice(SEATS), chance.randrange(self.size.people)
        day = ten_days_ago - timedelta(days=chance.randrange(15))
        title = quote(f'title eq "{chance.choice(TITLES)}"')
        group = 1 + 2 * chance.randrange(self.size.groups // 2)
        return {
            "Today": "/api/today",
            "Allocations": f'POST /api/allocations/rows {{"around":"{place}"}}',
            "as of a day": f'POST /api/allocations/rows {{"around":"{place}","on":"{day}"}}',
            "a cell": f"/api/allocations/cell?account={place}&product={product}",
            "People by account": f"/api/people?account={place}",
            "People by group": f"/api/people?group=MSP%2FG{group}" if role == "operator" else "/api/people",
            "People by product": f"/api/people?product={product}",
            "People by prefix": "/api/people?filter=" + quote(f'userName sw "person.{person // 100}"'),
            "People by equality": f"/api/people?filter={title}",
            "a person": f"/api/people/person.{person if role == 'operator' else 0}",
            "Groups": "/api/groups",
            "Pools": "/api/pools",
            "a statement": f"/api/statements/{client}?month={month}",
        }

    def reader(self, number: int) -> None:
        """One who looks at this and that."""
        role = "operator" if number % 2 else "client"
        chance, caller = random.Random(number), self.caller(role)
        while not self.stop.wait(chance.uniform(0, 2 * THINKS)):
            kind, path = chance.choice(list(self._wanted(chance, role).items()))
            self._ask(caller, kind, *asked(path))

    def _every(self, seconds: float, do: Callable[[int], None]) -> None:
        due, turn = time.monotonic(), 0
        while not self.stop.wait(max(0.0, due - time.monotonic())):
            do(turn)
            due, turn = due + seconds, turn + 1

    def taker(self, number: int) -> None:
        """One who takes a unit and gives it back: two a second."""
        chance, caller = random.Random(number), self.caller("operator")
        held: list[dict[str, str]] = []

        def take_or_give(turn: int) -> None:
            if turn % 2 and held:
                self._ask(caller, "release", "POST", "/api/assignments/release", {"units": [held.pop()]})
                return
            account = f"C{chance.randrange(self.size.clients)}"
            held.append({"account": account, "product": "DESK", "subject": f"mixed-{number}-{uuid.uuid4().hex[:8]}"})
            self._ask(caller, "admission", "POST", "/api/assignments", {"units": [held[-1]]})

        self._every(0.5, take_or_give)

    def steward(self) -> None:
        """One who changes a person each second."""
        chance, caller = random.Random(1), self.caller("operator")

        def change(turn: int) -> None:
            people = {"usernames": [f"person.{chance.randrange(self.size.people)}"]}
            act = ("protect", "unprotect")[turn % 2]
            self._ask(caller, "change of a person", "POST", "/api/people/act", {"act": act, "people": people})

        self._every(1.0, change)

    def editor(self) -> None:
        """One who edits two cells a second in a draft, and applies it when it has twenty."""
        caller = self.caller("client")
        draft: dict[str, Any] = self._ask(caller, "open draft", "GET", "/api/drafts/current") or {}

        def edit(turn: int) -> None:
            nonlocal draft
            if turn and turn % 10 == 0 and draft:
                apply = f"/api/drafts/{draft['id']}/apply"
                self._ask(caller, "apply of 20 cells", "POST", apply, {"revision": draft["revision"]})
                draft = {}
            cells = [
                {"account": f"C0-{1 + (2 * turn + n) % (self.departments - 1)}", "product": "DESK"} for n in range(2)
            ]
            there = self._ask(caller, "terms", "POST", "/api/allocations/terms", {"cells": cells})
            put = [_change(cell, each["version"], turn) for cell, each in zip(cells, there or [], strict=False)]
            shown = [each["account"] for each in cells]
            body = {"draft": draft.get("id"), "revision": draft.get("revision", 0), "put": put, "shown": shown}
            draft = self._ask(caller, "grid edit", "PATCH", "/api/drafts", body) or draft

        self._every(1.0, edit)


def _change(cell: dict[str, str], version: dict[str, Any] | None, turn: int) -> dict[str, Any]:
    names = ("reserve", "cap", "at_cap", "burst", "grace_days")
    return {
        "kind": "allocation",
        **cell,
        "seen": version and version["id"],
        "was": version and {name: version[name] for name in names},
        "terms": {"reserve": 0, "cap": 200 + turn % 97},
    }


def main() -> None:
    """Let them all at it, and say what each kind waited."""
    numbers = [int(each) for each in sys.argv[1:]]
    accounts, seconds = (*numbers, *(2_000, 60)[len(numbers) :])[:2]
    folder = Path(os.environ.get("FAIR_LADLE_BENCH") or tempfile.mkdtemp())
    size = Size(accounts, accounts * 10, max(accounts // 50, 10))
    with serving(home_of(folder, size)) as pids:
        mixed = Mixed(size)
        yardstick = mixed.caller("operator")
        people = [
            *(threading.Thread(target=mixed.reader, args=(n,)) for n in range(READERS)),
            *(threading.Thread(target=mixed.taker, args=(n,)) for n in range(4)),
            threading.Thread(target=mixed.steward),
            threading.Thread(target=mixed.editor),
        ]
        for each in people:
            each.start()
        mixed.stop.wait(KEPT_SECONDS)
        mixed.counts = True
        memory = [_memory(pids[0])]
        for _ in range(10):
            until = time.monotonic() + seconds / 10
            while time.monotonic() < until:
                mixed._ask(yardstick, "empty", "GET", "/api/health")
                time.sleep(0.5)
            memory.append(_memory(pids[0]))
        mixed.stop.set()
        for each in people:
            each.join()
    table = Table("request", "asked", "refused", "middle, ms", "p95, ms", "worst, ms")
    for kind, took in sorted(mixed.took.items()):
        took.sort()
        figures = (took[len(took) // 2], took[int(len(took) * 0.95)], took[-1])
        table.add_row(kind, f"{len(took)}", f"{mixed.failed[kind]}", *(f"{each * 1000:.0f}" for each in figures))
    Console(width=120).print(table)
    for kind, why in mixed.why.items():
        print(f"{kind}: {why}")
    print("MB of the server's processes, a tenth of the time each:", *(f"{each:.0f}" for each in memory))


if __name__ == "__main__":
    main()
