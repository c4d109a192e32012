"""Requests at two sizes: CPU, statements and time of each, as the operator and as a client's admin.

Standing apart from the others, since it takes minutes: `python -m bench.http ACCOUNTS …` makes a home a size under
`FAIR_LADLE_BENCH` (kept for the next time) and prints a table; an empty request is the yardstick of the run.
"""

from __future__ import annotations

import http.client
import json
import os
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from math import log
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.table import Table

from bench.installation import Size, write
from bench.served import Caller

PASSWORD = "a-long-enough-passphrase"
ROLES = {"operator": ("op@msp.example", "MSP"), "client": ("admin@c0.example", "C0")}
PORT = 8493
TRIES = 5
SLOW_SECONDS = 3.0
month = (datetime.now(UTC).replace(day=1) - timedelta(days=2)).strftime("%Y-%m")
ten_days_ago = (datetime.now(UTC) - timedelta(days=10)).date()
ASKED: dict[str, str] = {
    "empty": "/api/health",
    "me": "/api/me",
    "today": "/api/today",
    "allocations": "POST /api/allocations/rows {}",
    "allocations, 1 product": 'POST /api/allocations/rows {"product":["MAIL"]}',
    "allocations, one account": 'POST /api/allocations/rows {"around":"C0"}',
    "allocations, as of a day": f'POST /api/allocations/rows {{"product":["MAIL"],"on":"{ten_days_ago}"}}',
    "cell": "/api/allocations/cell?account=C0&product=MAIL",
    "accounts, find": "/api/accounts?find=C12",
    "account": "/api/accounts/C0",
    "people": "/api/people",
    "people, find": "/api/people?find=person.777",
    "people by product": "/api/people?product=MAIL",
    "people by account": "/api/people?account=C0",
    "people by group": "/api/people?group=MSP%2FG0",
    "people, SCIM": "/api/people?filter=title+eq+%22Manager%22",
    "people, count": "/api/people/count",
    "person": "/api/people/person.0",
    "groups": "/api/groups",
    "pools": "/api/pools",
    "timeline": "/api/pools/MSP/MAIL/timeline",
    "statements": f"/api/statements?month={month}",
    "statements, sums": f"/api/statement-sums?month={month}",
    "statement": f"/api/statements/C0?month={month}",
    "log": "/api/log",
    "devices": "/api/devices",
    "sessions": "/api/sessions",
    "requests": "/api/requests",
    "queue": "/api/entitlements/queue",
    "holds": "/api/enforcement/holds",
    "reclaim": "/api/reclaim",
}


def asked(path: str) -> tuple[str, str, Any]:
    """Method, path and body of what is asked: a path, or POST, a path and a body."""
    if not path.startswith("POST "):
        return "GET", path, None
    method, at, body = path.split(" ", 2)
    return method, at, json.loads(body)


def _cpu(pid: int) -> float:
    """Seconds of CPU of a process and of those it started."""
    spent, stack = 0.0, [pid]
    while stack:
        each = stack.pop()
        try:
            fields = Path(f"/proc/{each}/stat").read_text().rsplit(")", 1)[1].split()
            stack += [int(child) for child in Path(f"/proc/{each}/task/{each}/children").read_text().split()]
        except OSError:
            continue
        spent += (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")
    return spent


def _memory(pid: int) -> float:
    """Resident MB of a process and of those it started, but for the database's."""
    found, stack = 0, [pid]
    while stack:
        each = stack.pop()
        try:
            if Path(f"/proc/{each}/comm").read_text().strip() == "mariadbd":
                continue
            found += int(Path(f"/proc/{each}/statm").read_text().split()[1])
            stack += [int(child) for child in Path(f"/proc/{each}/task/{each}/children").read_text().split()]
        except OSError:
            continue
    return found * os.sysconf("SC_PAGE_SIZE") / 2**20


def _program(home: Path, *arguments: str, **more: Any) -> subprocess.Popen[str]:
    environment = {**os.environ, "FAIR_LADLE_HOME": str(home)}
    return subprocess.Popen(
        [sys.executable, "-m", "fair_ladle", *arguments], env=environment, stdin=subprocess.PIPE, text=True, **more
    )


def home_of(folder: Path, size: Size) -> Path:
    """A home with an installation of a size, made where it is not there yet."""
    home = folder / f"home-{size.accounts}"
    if not (home / "made").exists():
        home.mkdir(parents=True, exist_ok=True)
        write(folder / f"intake-{size.accounts}", size, datetime.now(UTC).replace(minute=0, second=0, microsecond=0))
        began = time.perf_counter()
        assert _program(home, "import", str(folder / f"intake-{size.accounts}")).wait() == 0
        print(f"import of {size.accounts:,} accounts: {time.perf_counter() - began:.0f} s", file=sys.stderr)
        for email, account in ROLES.values():
            _program(home, "sign-in", email, "--account", account).communicate(PASSWORD + "\n")
        (home / "made").touch()
    return home


def signed_in(email: str) -> Caller:
    """Who asks as somebody."""
    caller = Caller(PORT)
    caller.sign_in(email, PASSWORD)
    return caller


@contextmanager
def serving(home: Path) -> Iterator[tuple[int, int]]:
    """A server on a home; its process and its database's."""
    server = _program(home, "serve", "--port", str(PORT), stdout=subprocess.DEVNULL)
    try:
        while True:
            time.sleep(0.2)
            try:
                connection = http.client.HTTPConnection("127.0.0.1", PORT, timeout=10)
                connection.request("GET", "/api/health")
                if connection.getresponse().status == 200:
                    break
            except OSError:
                assert server.poll() is None, "the server ended"
        database = int(next((home / "mariadb").rglob("*.pid")).read_text())
        yield server.pid, database
    finally:
        server.terminate()
        server.wait()


@dataclass
class Cost:
    """What one request costs: ms at the middle and at worst, CPU of both processes, statements, kB of the answer."""

    status: int
    middle: float
    worst: float
    cpu: float
    statements: int
    size: float


def _statements(home: Path, request_id: str) -> int:
    newest = max((home / "log").glob("requests-*.jsonl"))
    for _ in range(50):
        for line in reversed(newest.read_text().splitlines()[-50:]):
            if request_id in line:
                return int(json.loads(line)["statements"])
        time.sleep(0.01)
    return -1


def cost(home: Path, pids: tuple[int, int], caller: Caller, method: str, path: str, body: Callable[[], Any]) -> Cost:
    """Ask a few times, or twice where it is slow."""
    took, spent = [], []
    status, size, request_id = 0, 0.0, ""
    while len(took) < TRIES + 1 and (len(took) < 2 or max(took) < SLOW_SECONDS):
        before, began = sum(map(_cpu, pids)), time.perf_counter()
        status, request_id, found = caller.ask(method, path, body(), zipped=True)
        took.append(time.perf_counter() - began)
        spent.append(sum(map(_cpu, pids)) - before)
        size = len(found) / 1000
    warm = took[1:]
    return Cost(
        status,
        statistics.median(warm) * 1000,
        max(took) * 1000,
        statistics.mean(spent[1:]) * 1000,
        _statements(home, request_id),
        size,
    )


def main() -> None:
    """Measure every request at each size."""
    folder = Path(os.environ.get("FAIR_LADLE_BENCH") or tempfile.mkdtemp())
    sizes = [int(each) for each in sys.argv[1:] if each.isdigit()] or [2_000, 20_000]
    chosen = [each for each in sys.argv[1:] if not each.isdigit()]
    found: dict[tuple[str, str], dict[int, Cost]] = {}
    for accounts in sizes:
        home = home_of(folder, Size(accounts, accounts * 15, accounts // 10))
        with serving(home) as pids:
            for role, (email, _) in ROLES.items():
                caller = signed_in(email)
                for name, path in ASKED.items():
                    if not chosen or any(each in name for each in chosen):
                        method, at, body = asked(path)
                        found.setdefault((role, name), {})[accounts] = here = cost(
                            home, pids, caller, method, at, lambda body=body: body
                        )
                        print(accounts, role, name, here, file=sys.stderr, flush=True)
            print(f"{accounts:,} accounts: {_memory(pids[0]):.0f} MB", file=sys.stderr)
    table = Table(
        "who", "request", *(f"{size:,}: ms / worst / CPU / statements / kB" for size in sizes), "slope of CPU"
    )
    for (role, name), costs in found.items():
        cells = [
            f"{c.middle:.0f} / {c.worst:.0f} / {c.cpu:.0f} / {c.statements} / {c.size:.0f}"
            + ("" if c.status == 200 else f" ({c.status})")
            for c in costs.values()
        ]
        first, last = costs[sizes[0]], costs[sizes[-1]]
        slope = log(max(last.cpu, 1) / max(first.cpu, 1)) / log(sizes[-1] / sizes[0]) if len(sizes) > 1 else 0
        table.add_row(role, name, *cells, f"{slope:.2f}")
    Console(width=170).print(table)


if __name__ == "__main__":
    main()
