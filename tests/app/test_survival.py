"""The real server under 32 clients that take, release and apply drafts: nothing passes a limit, no deadlock reaches
anybody, and after the server and then its database are killed the counters still equal the assignments."""

from __future__ import annotations

import os
import random
import signal
import socket
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import httpx2 as httpx
import pytest

from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.installation import close_installation, open_database
from fair_ladle.app.plumbing.own_server import OwnServer
from fair_ladle.app.plumbing.settings import Settings
from fair_ladle.app.sign_in import usecases as sign_in
from tests.app.test_assignments import small, within_limits

PROJECT = Path(__file__).parents[2]
PASSWORD = "correct-ferry-staple"
CLIENTS = 32
SECONDS = float(os.environ.get("FAIR_LADLE_LOAD_SECONDS", "5"))
"""How long the load goes on undisturbed before anything is killed; a minute says more than a check has time for."""


class Home:
    """A home of its own with its server as a process."""

    def __init__(self, home: Path):
        self.settings = Settings(home, None)
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        self.address = f"http://127.0.0.1:{self.port}"
        self.process: subprocess.Popen[bytes] | None = None

    def serve(self) -> None:
        environment = os.environ | {"FAIR_LADLE_HOME": str(self.settings.home), "FAIR_LADLE_PORT": str(self.port)}
        environment.pop("FAIR_LADLE_DATABASE_URL", None)
        self.process = subprocess.Popen(
            [sys.executable, "-m", "fair_ladle", "serve"],
            cwd=PROJECT,
            env=environment,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        for _ in range(300):
            try:
                httpx.get(f"{self.address}/api/health", timeout=1)
                return
            except httpx.HTTPError:
                time.sleep(0.1)
        raise AssertionError("the server did not come up")


class Load:
    """Clients that go on until told to stop; what was answered is counted."""

    def __init__(self, home: Home):
        self.home = home
        with httpx.Client(base_url=home.address) as client:
            client.post("/api/sign-in", json={"email": "msp@x.example", "password": PASSWORD}).raise_for_status()
            self.cookies = dict(client.cookies)
            self.token = client.get("/api/me").json()["csrf_token"]
        self.answers: Counter[str] = Counter()
        self.stop = threading.Event()
        self.threads = [threading.Thread(target=self._one, args=(number,)) for number in range(CLIENTS)]

    def run(self, seconds: float, enough: Callable[[Counter[str]], bool] = lambda answers: True) -> Counter[str]:
        """What is answered in that time, and on until it is enough, however slow the machine (two minutes at most)."""
        self.answers.clear()
        time.sleep(seconds)
        for _ in range(240):
            if enough(Counter(self.answers)):
                break
            time.sleep(0.5)
        return Counter(self.answers)

    def _one(self, number: int) -> None:
        chance, mine, serial = random.Random(number), [], 0  # type: tuple[random.Random, list[dict[str, str]], int]
        with httpx.Client(
            base_url=self.home.address, cookies=self.cookies, headers={"X-CSRF-Token": self.token}, timeout=20
        ) as client:
            while not self.stop.is_set():
                roll = chance.random()
                try:
                    if roll < 0.04:
                        answer = self._another_cap(client, chance)
                    elif mine and roll < 0.45:
                        answer = client.post("/api/assignments/release", json={"units": [mine.pop()]})
                    else:
                        serial += 1
                        tx = {
                            "account": f"C{chance.randrange(4)}-{chance.choice('AB')}",
                            "product": "BOX",
                            "subject": f"k{number}-{serial}",
                        }
                        answer = client.post("/api/assignments", json={"units": [tx]})
                        if answer.status_code == 200:
                            mine.append(tx)
                    self.answers[str(answer.status_code)] += 1
                except httpx.HTTPError:
                    self.answers["no answer"] += 1
                    time.sleep(0.05)

    def _another_cap(self, client: httpx.Client, chance: random.Random) -> httpx.Response:
        there = client.post("/api/allocations/terms", json={"cells": [{"account": "C3", "product": "BOX"}]})
        if there.status_code != 200:
            return there
        version = there.json()[0]["version"]
        change = {
            "kind": "allocation",
            "account": "C3",
            "product": "BOX",
            "seen": version["id"],
            "was": {name: version[name] for name in ("reserve", "cap", "at_cap", "burst", "grace_days")},
            "terms": {"reserve": 10, "cap": chance.choice([20, 21, 22])},
        }
        open_now = client.get("/api/drafts/current")
        draft = open_now.json() if open_now.status_code == 200 else None
        edited = client.patch(
            "/api/drafts",
            json={"draft": draft and draft["id"], "revision": draft["revision"] if draft else 0, "put": [change]},
        )
        if edited.status_code != 200:
            return edited
        return client.post(f"/api/drafts/{edited.json()['id']}/apply", json={"revision": edited.json()["revision"]})


@pytest.fixture
def home(tmp_path_factory: pytest.TempPathFactory):  # type: ignore[no-untyped-def]
    found = Home(tmp_path_factory.mktemp("survival"))
    database = open_database(found.settings)
    small(database, found.settings.home / "intake", supply=45)
    database.run(sign_in.give_sign_in, COMMAND_LINE, "msp@x.example", "Ada", "MSP", PASSWORD)
    database.engine.dispose()
    found.serve()
    yield found
    if found.process:
        found.process.kill()
    close_installation(found.settings)


def test_nothing_breaks_under_load_and_through_kills(home: Home) -> None:
    load = Load(home)
    for thread in load.threads:
        thread.start()
    try:
        undisturbed = load.run(SECONDS, lambda answers: answers["200"] > 100)
        assert home.process is not None
        home.process.kill()
        home.process.wait()
        home.serve()
        load.run(2)
        pid = int((home.settings.home / "mariadb" / "pid").read_text())
        os.kill(pid, signal.SIGKILL)
        time.sleep(0.3)
        OwnServer(home.settings.home).ensure()
        for _ in range(120):  # however long the database takes to read its logs again
            answers = load.run(0.5)
            if answers and set(answers) <= {"200", "409"}:
                break
        recovered = load.run(2, lambda answers: answers.total() > 50)
    finally:
        load.stop.set()
        for thread in load.threads:
            thread.join()
    print("undisturbed", dict(undisturbed), "recovered", dict(recovered))
    assert set(undisturbed) <= {"200", "409"} and undisturbed["200"] > 100, undisturbed
    assert set(recovered) <= {"200", "409"} and recovered.total() > 50, recovered
    database = open_database(home.settings)
    assert database.run(assignments.verify, COMMAND_LINE) == []
    within_limits(database)
    database.engine.dispose()
