"""The real server under 32 clients that do everything at random: take, release, apply drafts, give seats, move and
suspend people, let layers give, bring people in. Nothing passes a limit, no deadlock reaches anybody, and after the server
and then its database are killed nothing that was answered is lost or done twice."""

from __future__ import annotations

import os
import random
import signal
import socket
import subprocess
import sys
import threading
import time
import uuid
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

import httpx2 as httpx
import pytest
import sqlalchemy as sa

from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.people_import import service as people_import_service
from fair_ladle.app.people_import import usecases as people_import
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import LONGEST_OUTAGE, LONGEST_WAIT, Database
from fair_ladle.app.plumbing.installation import close_installation, open_database
from fair_ladle.app.plumbing.own_server import OwnServer
from fair_ladle.app.plumbing.settings import Settings
from fair_ladle.app.sign_in import usecases as sign_in
from fair_ladle.connectors.sheets_in import read_source
from tests.app.test_assignments import ALLOCATIONS, DEVICES, LOT, TREE, within_limits
from tests.app.test_intake import as_folder
from tests.conftest import folder_in_memory

PROJECT = Path(__file__).parents[2]
PASSWORD = "correct-ferry-staple"
CLIENTS = 32
THINKS = 0.9
"""The most seconds between what one client does and the next, besides as long as the last took, up to four: the
server is busy, not starved by its own clients, on a slow machine either."""
PATIENCE = LONGEST_OUTAGE + LONGEST_WAIT + 5
"""Seconds a client waits for one answer: through an outage and for locks after it, as long as a request may take."""
SECONDS = float(os.environ.get("FAIR_LADLE_LOAD_SECONDS", "5"))
"""How long the load goes on undisturbed before anything is killed."""
KILLS = int(os.environ.get("FAIR_LADLE_KILLS", "1"))
"""How often the server and then its database are killed; `./check --long` does it five times in three minutes."""
LEAST = 50 if KILLS > 1 else 1
"""So many of each kind have to be done."""


PLACES = [f"C{client}-{part}" for client in range(4) for part in "AB"]
PEOPLE = [f"p{number:03d}" for number in range(64)]
DESKS = ("DESK", "DESK-BIG")
INTAKE = {
    "accounts": TREE,
    "products": DEVICES + "DESK,Desk,V,seat,seat,DESKS,,,DESK-BIG\nDESK-BIG,Desk Big,V,seat,seat,DESKS,,,\n",
    "lots": LOT.format(45, "") + "PO-8,MSP,DESK,40,2026-01-01,,1,EUR,,\nPO-9,MSP,DESK-BIG,20,2026-01-01,,1,EUR,,\n",
    "allocations": ALLOCATIONS,
    "people": "account,username,display_name,email,status\n"
    + "".join(
        f"{PLACES[n % len(PLACES)]},{name},Person {n},{name}@load.example,active\n" for n, name in enumerate(PEOPLE)
    ),
}
OFFICE = ("seat", "move", "suspend", "resume", "layer", "import")
KINDS = ("assign", "release", "draft", *OFFICE)


class Home:
    """A home with its server as a process: with a database of its own, or at a node of a cluster."""

    def __init__(self, home: Path, database_url: str | None = None, secret_key: str | None = None):
        self.settings = Settings(home, database_url, secret_key=secret_key)
        with socket.socket() as probe:
            probe.bind(("127.0.0.1", 0))
            self.port = probe.getsockname()[1]
        self.address = f"http://127.0.0.1:{self.port}"
        self.process: subprocess.Popen[bytes] | None = None

    def serve(self, waits: bool = True) -> None:
        """Start the server, and wait until it answers."""
        environment = os.environ | {"FAIR_LADLE_HOME": str(self.settings.home), "FAIR_LADLE_PORT": str(self.port)}
        environment.pop("FAIR_LADLE_DATABASE_URL", None)
        if self.settings.database_url:
            environment |= {"FAIR_LADLE_DATABASE_URL": self.settings.database_url, "FAIR_LADLE_WORKERS": "1"}
        if self.settings.secret_key:
            environment["FAIR_LADLE_SECRET_KEY"] = self.settings.secret_key
        self.process = subprocess.Popen(
            [sys.executable, "-m", "fair_ladle", "serve"],
            cwd=PROJECT,
            env=environment,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )
        if waits:
            self.comes_up()

    def comes_up(self) -> None:
        """Wait until it answers."""
        for _ in range(600):
            try:
                httpx.get(f"{self.address}/api/health", timeout=1)
                return
            except httpx.HTTPError:
                time.sleep(0.1)
        raise AssertionError("the server did not come up")


class Load:
    """Clients that go on until told to stop; what was answered is counted."""

    def __init__(self, *homes: Home):
        self.homes = homes
        with httpx.Client(base_url=homes[0].address) as client:
            client.post("/api/sign-in", json={"email": "msp@x.example", "password": PASSWORD}).raise_for_status()
            self.cookies = dict(client.cookies)
            self.token = client.get("/api/me").json()["csrf_token"]
        self.answers: Counter[str] = Counter()
        self.done: Counter[str] = Counter()
        self.held: set[str] = set()
        self.unsure: set[str] = set()
        self.brought: dict[str, str] = {}
        """The address of each person in an import that was begun, and where it stood in it."""
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
        chance, serial = random.Random(number), 0
        mine: list[dict[str, str]] = []
        with httpx.Client(
            base_url=self.homes[number % len(self.homes)].address,
            cookies=self.cookies,
            headers={"X-CSRF-Token": self.token},
            timeout=PATIENCE,
            # A connection is let go before the server lets it go (after 5 s): none is used again as it ends.
            limits=httpx.Limits(keepalive_expiry=2.0),
        ) as client:
            took = 0.0
            while not self.stop.is_set():
                time.sleep(chance.uniform(0, THINKS) + min(took, 4.0))
                began, roll = time.monotonic(), chance.random()
                if roll < 0.04:
                    try:
                        self._count("draft", self._another_cap(client, chance))
                    except httpx.HTTPError as trouble:
                        self.answers[type(trouble).__name__] += 1
                elif roll < 0.13:
                    serial += 1
                    self._office(client, chance, f"k{number}-{serial}")
                elif mine and roll < 0.5:
                    unit = mine.pop()
                    answer = self._until_answered(client, "POST", "/api/assignments/release", {"units": [unit]})
                    self._count("release", answer)
                    if answer is None:
                        self.unsure.add(unit["subject"])
                    elif answer.status_code != 200:
                        mine.append(unit)
                else:
                    serial += 1
                    unit = {
                        "account": f"C{chance.randrange(4)}-{chance.choice('AB')}",
                        "product": "BOX",
                        "subject": f"k{number}-{serial}",
                    }
                    answer = self._until_answered(client, "POST", "/api/assignments", {"units": [unit]})
                    self._count("assign", answer)
                    if answer is None:
                        self.unsure.add(unit["subject"])
                    elif answer.status_code == 200:
                        mine.append(unit)
                took = time.monotonic() - began
        self.held.update(each["subject"] for each in mine)

    def _count(self, kind: str, answer: httpx.Response | None) -> None:
        if answer is not None:
            self.answers[str(answer.status_code)] += 1
            self.done[kind] += answer.status_code == 200 and answer.json().get("done") != []

    def _office(self, client: httpx.Client, chance: random.Random, name: str) -> None:
        """One of the things that are done to people."""
        kind = chance.choice(OFFICE)
        if kind == "import":
            self._bring_in(client, name)
            return
        if kind == "layer":
            away = chance.random() < 0.5
            body = {"account": chance.choice(PLACES), "product": chance.choice(DESKS), "components": []}
            way = ("POST", "/api/entitlements/remove") if away else ("PUT", "/api/entitlements")
            answer = self._until_answered(client, *way, body | {"group": None, "priority": 100})
            if answer is not None and answer.status_code != 404:  # what no layer gives cannot be taken away
                self._count("layer", answer)
            return
        act = {
            "seat": {"act": chance.choice(["assign", "release"]), "product": chance.choice(DESKS)},
            "move": {"act": "move", "to_account": chance.choice(PLACES)},
            "suspend": {"act": "suspend", "keep_seats": chance.random() < 0.5},
            "resume": {"act": "resume"},
        }[kind]
        whom, to = {"usernames": chance.sample(PEOPLE, 4)}, "seats" if kind == "seat" else "act"
        self._count(kind, self._until_answered(client, "POST", f"/api/people/{to}", {**act, "people": whom}))

    def _bring_in(self, client: httpx.Client, name: str) -> None:
        emails = [f"{name}-{n}@brought.example" for n in range(3)]
        content = "name,email,account\n" + "".join(f"New {each},{each},C0-A\n" for each in emails)
        received = self._until_answered(client, "POST", f"/api/people-imports?name={name}.csv", content.encode())
        if received is None or received.status_code != 201:
            self._count("import", received)
            return
        self.brought.update((each, name) for each in emails)
        begun = self._until_answered(client, "POST", f"/api/people-imports/{received.json()['id']}/begin", {})
        if begun is None:
            self.unsure.update(emails)
        self._count("import", begun)

    def _until_answered(self, client: httpx.Client, method: str, path: str, body: Any) -> httpx.Response | None:
        """The answer to one change, asked for under one key until there is one, through whatever is killed."""
        key, until = str(uuid.uuid4()), time.monotonic() + 2 * PATIENCE
        while time.monotonic() < until:
            try:
                sent = {"content": body} if isinstance(body, bytes) else {"json": body}
                kind = {"Content-Type": "application/octet-stream"} if isinstance(body, bytes) else {}
                answer = client.request(method, path, headers={"Idempotency-Key": key, **kind}, **sent)
                if answer.status_code < 500:
                    return answer
                self.answers[answer.json()["type"].rpartition(":")[2]] += 1
            except httpx.HTTPError as trouble:
                self.answers[type(trouble).__name__] += 1
            time.sleep(0.1)
        return None

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


def everybody_once(database: Database, load: Load) -> None:
    """Every import that was begun came to its end, nobody came in twice, and nobody has two of a family."""
    for import_id in database.run(people_import_service.under_way):
        people_import.work(database, import_id)
    with database.engine.connect() as connection:
        came = Counter(connection.scalars(sa.text("SELECT email FROM people WHERE email LIKE '%@brought.example'")))
        doubled = connection.execute(
            sa.text(
                "SELECT a.subject FROM assignments a JOIN products p ON p.id = a.product_id "
                "WHERE p.family = 'DESKS' AND a.ends IS NULL GROUP BY a.subject HAVING COUNT(*) > 1"
            )
        ).all()
    assert set(came.values()) <= {1} and set(load.brought) - load.unsure <= set(came), "who came in, once"
    assert doubled == []


def fill(settings: Settings, intake: Path) -> None:
    """What the clients find, and somebody who signs in."""
    database = open_database(settings)
    database.run(data_import.load, COMMAND_LINE, read_source(as_folder(INTAKE, intake)))
    database.run(sign_in.give_sign_in, COMMAND_LINE, "msp@x.example", "Ada", "MSP", PASSWORD)
    database.engine.dispose()


@pytest.fixture
def home(tmp_path_factory: pytest.TempPathFactory):  # type: ignore[no-untyped-def]
    with folder_in_memory(tmp_path_factory) as folder:
        found = Home(folder)
        fill(found.settings, folder / "intake")
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
        for _ in range(KILLS):
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
            print(
                "undisturbed",
                dict(undisturbed),
                "recovered",
                dict(recovered),
                "done",
                dict(load.done),
                "unsure",
                len(load.unsure),
            )
            for answers in (undisturbed, recovered):
                # Who waited ten seconds for others is told so, and asks again under the same key.
                assert set(answers) <= {"200", "409", "busy"} and answers["busy"] * 50 <= answers.total(), answers
            assert undisturbed["200"] > 100 and recovered.total() > 50, (undisturbed, recovered)
        # On a slow machine what comes seldom comes late.
        load.run(0, lambda answers: min(load.done[kind] for kind in KINDS) >= LEAST)
    finally:
        load.stop.set()
        for thread in load.threads:
            thread.join()
    assert min(load.done[kind] for kind in KINDS) >= LEAST, load.done
    nothing_is_lost_or_doubled(home.settings, load)


def nothing_is_lost_or_doubled(settings: Settings, load: Load) -> None:
    """What is in the database is what was answered, and everything in it agrees."""
    database = open_database(settings)
    with database.engine.connect() as connection:
        there = list(
            connection.scalars(
                sa.text("SELECT subject FROM assignments WHERE ends IS NULL AND subject REGEXP '^k[0-9]+-[0-9]+$'")
            )
        )
    assert len(there) == len(set(there)), "nothing is done twice"
    assert set(there) - load.unsure == load.held - load.unsure, "nothing acknowledged is lost or done otherwise"
    everybody_once(database, load)
    assert database.run(assignments.verify, COMMAND_LINE) == []
    within_limits(database)
    database.engine.dispose()
