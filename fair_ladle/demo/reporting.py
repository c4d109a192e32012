"""The demo's machines: a few devices that activate and report, and a session or two, over the public API as any
client."""

from __future__ import annotations

import threading
import time
from dataclasses import replace
from pathlib import Path

from fair_ladle.app.devices import acting
from fair_ladle.app.devices import usecases as devices
from fair_ladle.app.leases import usecases as leases
from fair_ladle.app.numbers import usecases as items
from fair_ladle.app.people_admin import listing
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.personal_storage import usecases as personal_storage
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.pools import service as pools
from fair_ladle.app.storage_systems import running, sources
from fair_ladle.app.storage_systems.sources import SourceTerms
from fair_ladle.app.usage import service as usage
from fair_ladle.connectors.reporting_client import DeviceClient, NotDone, ask

ACCOUNT, MACHINES, SESSIONS = "NORTHFOLD", 4, 2
DEPARTMENTS, EACH = ("OLDQUAY-ENGINEERING", "OLDQUAY-CREW", "TERN", "NORTHFOLD"), 6
BEAT_SECONDS = 45
ADMIN = Actor("Ines Vane", "", "GANNET")
_STAFF = Asked(account=ACCOUNT, status="active")
STOCK = "+44 20 7946 0100 - +44 20 7946 0139"


def set_up(database: Database, home: Path) -> None:
    """Numbers in the stock, and keys for the demo's machines, unless they are there; the keys are kept beside the
    sign-ins."""
    if (home / "demo-keys.txt").exists():
        return
    if not database.run(items.listing, ADMIN, "NUMBERS", "free")[0]:
        database.run(items.load, ADMIN, "NUMBERS", "GANNET", STOCK)
    database.run(_personal_storage)
    database.run(_belongings)
    keys = [
        database.run(devices.make_key, ADMIN, ACCOUNT, product, name)[1]
        for product, name in (("WATCHGLASS", "Reading rooms"), ("CHARTROOM", "Map room"))
    ]
    database.run(_taken_along, keys[1])
    _shared_scanner(database, sizes_folder(home))
    kept = home / "demo-keys.txt"
    kept.touch(mode=0o600)
    kept.write_text("\n".join(keys))


def sizes_folder(home: Path) -> Path:
    """The folder of the demo's home below which sizes are read."""
    return home / "demo-sizes"


def _shared_scanner(database: Database, folder: Path) -> None:
    """A scanner's program drops what its folders hold."""
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "scanner.csv").write_text(
        f"account,category,bytes\n{ACCOUNT},scans/newspapers,3811000000\n{ACCOUNT},scans/maps,1475000000\n"
    )
    at = database.settings.storage_roots
    database.settings = replace(database.settings, storage_roots=f"{at}:{folder}" if at else str(folder))
    terms = SourceTerms(ACCOUNT, "DEEPSHELF", "drop", "Scanner in the map room", 60, folder=str(folder))
    running.run(database, database.run(sources.put, ADMIN, None, terms, None), lambda: True)


def _taken_along(tx: Transaction, key: str) -> None:
    """Somebody works without a network."""
    (row,) = listing.listing(tx, ADMIN, _STAFF, "username", True, 0, 1).rows
    token = leases.begin(tx, key, row.person.username, f"tablet of {row.person.username}")[0]
    leases.go_offline(tx, token, 5)


def _belongings(tx: Transaction) -> None:
    """Devices and numbers of a few people."""
    for account in DEPARTMENTS:
        people = listing.listing(tx, ADMIN, Asked(account=account, status="active"), "username", False, 0, 200).rows
        for machine in devices.listing(tx, ADMIN, account=account, limit=EACH)[1]:
            owner = next((each for each in people if each.account == machine.account), None)
            if owner is not None:
                people.remove(owner)
                acting.give_to(tx, ADMIN, [(machine.product.code, machine.machine)], owner.person.username)
    staff = listing.listing(tx, ADMIN, _STAFF, "username", False, 0, EACH).rows
    free = [each.number for each in items.listing(tx, ADMIN, "NUMBERS", "free", limit=EACH)[1]]
    uses = [
        items.Use(number, row.person.username, "3 Library Square, Northfold")
        for number, row in zip(free, staff, strict=False)
    ]
    items.assign(tx, ADMIN, "NUMBERS", ACCOUNT, uses[:2])


def _personal_storage(tx: Transaction) -> None:
    """Some of the account's people store something of their own, under a default for everybody there."""
    product = pools.product(tx, "DEEPSHELF")
    personal_storage.set_limit(tx, ADMIN, ACCOUNT, None, product.code, "5")
    rows = listing.listing(tx, ADMIN, _STAFF, "username", False, 0, 12).rows
    usage.load_samples(
        tx,
        [
            {
                "product_id": product.id,
                "account_id": row.person.account_id,
                "category": usage.home(row.person.username),
                "at": tx.now,
                "bytes": (n * 137 % 61 + 3) * 10**8,
            }
            for n, row in enumerate(rows)
        ],
        lambda done: None,
    )


def begin(database: Database, home: Path, server: str) -> None:
    """Let the machines report in the background as long as the server is up."""
    kept = home / "demo-keys.txt"
    if kept.exists():
        device_key, session_key = kept.read_text().split()
        threading.Thread(
            target=_report,
            args=(home / "demo-machines", server, device_key, session_key, who_works(database)),
            daemon=True,
            name="demo machines",
        ).start()


def who_works(database: Database) -> list[str]:
    """Whose sessions (usernames) go on as long as the server is up."""
    found = database.run(listing.listing, ADMIN, _STAFF, "username", False, 0, SESSIONS)
    return [row.person.username for row in found.rows]


def _report(folder: Path, server: str, device_key: str, session_key: str, people: list[str]) -> None:
    clients = [(f"branch-lt-{n}", DeviceClient(folder / str(n))) for n in range(1, MACHINES + 1)]
    tokens: dict[str, str] = {}
    while True:
        time.sleep(BEAT_SECONDS if any(tokens.values()) else 3)
        for machine, client in clients:
            try:
                client.report()
            except NotDone:
                try:
                    client.activate(server, device_key, machine, "Reading room laptop")
                except NotDone:  # revoked, or no room: an admin of the demo has seen to it
                    continue
        for username in people:
            try:
                ask(server, "/sessions/beat", token=tokens[username])
            except (KeyError, NotDone):
                try:
                    tokens[username] = str(
                        ask(
                            server,
                            "/sessions/begin",
                            {"key": session_key, "username": username, "machine": f"desk of {username}"},
                        )["token"]
                    )
                except NotDone:
                    tokens.setdefault(username, "")
