"""Systems that are asked, again and again, who stores how much: made, changed, run and looked at by admins.

Their passwords are sealed with a key outside the database and never told. Folders of this machine are the operator's
alone, below the roots that the installation allows.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import asdict, dataclass, replace
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing import sealing
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction, lock_rows
from fair_ladle.app.plumbing.prepared import in_utc
from fair_ladle.app.plumbing.problems import Problem, Refused, conflict, invalid, not_allowed
from fair_ladle.app.plumbing.settings import Settings
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.storage_systems import source_store as store
from fair_ladle.app.storage_systems.rows import SourceRecord, SourceRun
from fair_ladle.app.storage_systems.tables import storage_sources

KINDS = ("imap", "objects", "tree", "drop")
LOCAL = ("tree", "drop")
"""What is read on this machine: the operator's alone."""
REGION = "us-east-1"
"""What stores that know no regions are signed for."""
MOST_LISTED, SHOWN_RUNS = 200, 5
LEAST_MINUTES, MOST_MINUTES = 5, 7 * 24 * 60


@dataclass(frozen=True)
class SourceTerms:
    """What a source is: where it is (``host``, ``port`` and ``security`` of a mail or object store, with ``master`` or
    ``access_key``, ``region``, ``bucket`` and ``prefix``; ``folder`` of a tree or of dropped tables), whose its
    subjects are (``people`` by username or, with ``by_email``, by address; ``accounts`` by code), how often it is
    asked, and whether limits are set there."""

    account: str
    product: str
    kind: str
    name: str
    every_minutes: int
    host: str | None = None
    port: int | None = None
    security: str | None = None
    master: str | None = None
    access_key: str | None = None
    region: str | None = None
    bucket: str | None = None
    prefix: str | None = None
    folder: str | None = None
    pace: int | None = None
    subjects: str = "people"
    by_email: bool = False
    sets_limits: bool = False
    paused: bool = False


@dataclass(frozen=True)
class Run:
    """A run of a source, and how far it is or came."""

    row: SourceRun

    @property
    def began_at(self) -> datetime:
        """When it began."""
        return in_utc(self.row.began_at)


@dataclass(frozen=True)
class Source:
    """A source with its newest runs."""

    number: int
    terms: SourceTerms
    account_name: str
    product: Product
    has_password: bool
    due_at: datetime
    failures: int
    full_at: datetime | None
    runs: list[Run]


def roots(settings: Settings) -> list[Path]:
    """The folders of this machine below which trees and dropped tables may lie."""
    return [Path(each) for each in (settings.storage_roots or "").split(":") if each]


def listing(tx: Transaction, actor: Actor) -> list[Source]:
    """The sources of the actor's branch."""
    accounts = accounts_service.known(tx)
    top = accounts_service.top_row(accounts, actor)
    rows = store.some(
        tx.connection, accounts_service.in_branch(accounts, top, storage_sources.c.account_id), MOST_LISTED
    )
    runs: dict[int, list[Run]] = {row.id: [] for row in rows}
    for run in store.runs(tx.connection, list(runs), SHOWN_RUNS):
        runs[run.source_id].append(Run(run))
    products = {each.id: each for each in pools_service.products(tx)}
    return [_source(accounts, products, row, runs[row.id]) for row in rows]


def _source(accounts: Accounts, products: Mapping[int, Product], row: SourceRecord, runs: list[Run]) -> Source:
    place = accounts.row_of_id[row.account_id]
    product = products[row.product_id]
    terms = SourceTerms(
        accounts.tree.codes[place],
        product.code,
        row.kind,
        row.name,
        row.every_minutes,
        paused=row.paused,
        **row.settings,
    )
    return Source(
        row.id,
        terms,
        accounts.name(place),
        product,
        row.sealed is not None,
        in_utc(row.due_at),
        row.failures,
        None if row.full_at is None else in_utc(row.full_at),
        runs,
    )


def put(tx: Transaction, actor: Actor, number: int | None, terms: SourceTerms, password: str | None) -> int:
    """Make a source, or change one (``password`` None = as it was); its number. Locks: the source."""
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, terms.account)
    product = pools_service.product(tx, terms.product)
    if not product.is_storage:
        raise invalid(f"{product.name} is not storage.", "product")
    before = None if number is None else _mine(tx, actor, number)
    if before is not None and terms.kind != before.kind:
        raise conflict("A source stays of its kind; make another one.")
    terms = _sound(tx, accounts, actor, terms)
    if terms.kind not in LOCAL and not password and (before is None or before.sealed is None):
        raise invalid(f"The {SECRETS[terms.kind]} is missing.", "password")
    where = ("host", "port", "security")
    is_elsewhere = before is not None and any(getattr(terms, each) != before.settings.get(each) for each in where)
    if terms.kind not in LOCAL and is_elsewhere and not password:
        raise invalid(f"Another server, port or security needs the {SECRETS[terms.kind]} again.", "password")
    values: dict[str, Any] = {
        "account_id": int(accounts.ids[row]),
        "product_id": product.id,
        "kind": terms.kind,
        "name": terms.name,
        "settings": _settings(terms),
        "every_minutes": terms.every_minutes,
        "paused": terms.paused,
    }
    if password:
        values["sealed"] = sealing.seal(tx.settings, password)
    if number is None:
        made = {"due_at": tx.now, "failures": 0, "made_at": tx.now, "made_by": actor.name}
        number = store.add(tx.connection, values | made)
    else:
        store.change(tx.connection, number, values | {"failures": 0, "due_at": tx.now})
    told = {"product": product.code, "kind": terms.kind, "every": f"{terms.every_minutes} minutes"}
    what = "storage source made" if before is None else "storage source changed"
    log_service.write(tx, actor, None, [log_service.Entry(what, terms.name, values["account_id"], None, told)])
    return number


SECRETS = {"imap": "master user's password", "objects": "secret key"}
_OTHERWISE_KEPT = {"account", "product", "kind", "name", "every_minutes", "paused"}


def _settings(terms: SourceTerms) -> dict[str, Any]:
    return {name: value for name, value in asdict(terms).items() if name not in _OTHERWISE_KEPT}


def _sound(tx: Transaction, accounts: Accounts, actor: Actor, terms: SourceTerms) -> SourceTerms:
    """The terms as they are kept; refused where something is missing or wrong."""
    name = terms.name.strip()
    if not name or len(name) > 200:
        raise invalid("A source has a name, in at most 200 characters.", "name")
    if terms.kind not in KINDS:
        raise invalid(f"One of {', '.join(KINDS)}.", "kind")
    if not LEAST_MINUTES <= terms.every_minutes <= MOST_MINUTES:
        raise invalid(f"From every {LEAST_MINUTES} minutes to once a week, {MOST_MINUTES}.", "every_minutes")
    if terms.kind == "imap":
        if not terms.host or not terms.master:
            raise invalid("A mail store has a host and a master user.", "host" if not terms.host else "master")
        if terms.security not in ("tls", "starttls", "none"):
            raise invalid("One of tls, starttls and none.", "security")
        port = terms.port or (993 if terms.security == "tls" else 143)
        return replace(_but(terms, *OBJECTS, *FOLDERS), name=name, port=port, subjects="people")
    if terms.kind == "objects":
        for what, value in (("host", terms.host), ("access_key", terms.access_key), ("bucket", terms.bucket)):
            if not value:
                raise invalid("An object store has a server, an access key and a bucket.", what)
        if not BUCKET.fullmatch(terms.bucket or ""):
            raise invalid("3 to 63 small letters, digits, dots and hyphens.", "bucket")
        if terms.security not in ("tls", "none"):
            raise invalid("One of tls and none.", "security")
        port = terms.port or (443 if terms.security == "tls" else 80)
        terms = replace(_but(terms, "master", *FOLDERS), name=name, port=port, sets_limits=False)
        return replace(terms, region=terms.region or REGION, prefix=(terms.prefix or "").strip("/"))
    if accounts_service.top_row(accounts, actor) != 0:
        raise not_allowed("Only the operator can have folders of this machine read.")
    if not terms.folder or not terms.folder.startswith("/"):
        raise invalid("A folder of this machine, from / on.", "folder")
    if not roots(tx.settings):
        raise conflict("No folder of this machine may be read; name some in FAIR_LADLE_STORAGE_ROOTS.")
    allowed = [each.resolve() for each in roots(tx.settings)]
    found = Path(terms.folder).resolve()
    if not any(found == each or each in found.parents for each in allowed):
        raise invalid("It lies below none of the roots that FAIR_LADLE_STORAGE_ROOTS names.", "folder")
    if terms.pace is not None and terms.pace < 100:
        raise invalid("At least 100 entries a second.", "pace")
    return replace(_but(terms, "host", "port", "security", "master", *OBJECTS), name=name, sets_limits=False)


BUCKET = re.compile(r"[a-z0-9][a-z0-9.-]{1,61}[a-z0-9]")
OBJECTS, FOLDERS = ("access_key", "region", "bucket", "prefix"), ("folder", "pace")


def _but(terms: SourceTerms, *names: str) -> SourceTerms:
    """The terms without what belongs to other kinds."""
    return replace(terms, **dict.fromkeys(names))  # type: ignore[arg-type]


def run_now(tx: Transaction, actor: Actor, number: int, dry: bool) -> None:
    """Have a source read as soon as may be, in full; ``dry``: only to see what it says, nothing is recorded or set.
    Locks: the source."""
    row = _mine(tx, actor, number)
    store.change(tx.connection, number, {"due_at": tx.now, "asked": "dry" if dry else "full"})
    said = "storage source tried" if dry else "storage source run"
    log_service.write(tx, actor, None, [log_service.Entry(said, row.name, row.account_id)])


def drop(tx: Transaction, actor: Actor, number: int) -> None:
    """Ask a source no longer; what it said stays. Locks: the source."""
    row = _mine(tx, actor, number)
    store.drop(tx.connection, number)
    log_service.write(tx, actor, None, [log_service.Entry("storage source removed", row.name, row.account_id)])


def _mine(tx: Transaction, actor: Actor, number: int) -> Any:
    """A source of the actor's branch, locked."""
    there = store.one(tx.connection, number)
    if there is None or not accounts_service.sees(accounts_service.known(tx), actor, there.account_id):
        # Its number is not told again: what it stands for is nobody's to learn.
        detail = "There is no such storage source here."
        raise Refused(Problem("not-found", "No such storage source", 404, detail))
    row = lock_rows(tx.connection, storage_sources, [number])[0]
    accounts = accounts_service.known(tx)
    if row.kind in LOCAL and accounts_service.top_row(accounts, actor) != 0:
        raise not_allowed("Only the operator can have folders of this machine read.")
    return row


BACK_OFF, MOST_BACK_OFF = timedelta(minutes=2), timedelta(hours=6)


def next_due(now: datetime, every_minutes: int, failures: int) -> datetime:
    """When a source is asked again: as often as it says, after failures later and later."""
    wait = timedelta(minutes=every_minutes)
    if failures:
        wait = max(wait, min(BACK_OFF * 2 ** min(failures - 1, 10), MOST_BACK_OFF))
    return now + wait
