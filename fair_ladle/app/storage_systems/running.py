"""Asking a system who stores how much, and recording what it says, part by part: a run that is stopped loses nothing of
what was recorded, and the next one mends the rest.

A run holds no transaction while it waits for the system. Locks of each part: those of a report.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.assignments import storing
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people.rows import PersonRecord
from fair_ladle.app.people.tables import people
from fair_ladle.app.personal_storage import usecases as personal_storage
from fair_ladle.app.plumbing import sealing
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.prepared import in_utc
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.plumbing.settings import networks
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.storage_systems import dropped, sources
from fair_ladle.app.storage_systems import source_store as store
from fair_ladle.app.storage_systems.rows import SourceRecord
from fair_ladle.app.storage_systems.source_store import Recorded
from fair_ladle.app.storage_systems.usecases import MOST_BYTES
from fair_ladle.app.usage import service as usage
from fair_ladle.connectors.file_trees import FileTree, found_below
from fair_ladle.connectors.mail_store import ImapStore
from fair_ladle.connectors.storage import Found, NotReached, StorageSystem, Trouble
from fair_ladle.core.quantities import BYTES_PER_GRAIN

AT_ONCE, TOLD, LONGEST_NAME = 200, 20, 128
PARTS = {"imap": "mail", "objects": "objects", "tree": "files"}
"""What the category of a system's bytes is called."""
FULL_EVERY = timedelta(hours=20)
GoingOn = Callable[[], bool]


def due(tx: Transaction) -> list[int]:
    """The sources whose time has come."""
    return store.due(tx.connection, tx.now, 100)


@dataclass
class _Count:
    """How far a run is."""

    found: int = 0
    recorded: int = 0
    limited: int = 0
    troubles: int = 0
    says: list[str] = field(default_factory=list)

    def trouble(self, subject: str, says: str) -> None:
        """Note what went wrong; the first of them in words."""
        self.troubles += 1
        if len(self.says) < TOLD:
            said = f"{subject}: {says}"[:500]
            self.says.append("".join(each if each.isprintable() else "\N{REPLACEMENT CHARACTER}" for each in said))

    def values(self) -> dict[str, Any]:
        """As it is kept."""
        names = ("found", "recorded", "limited", "troubles")
        return {name: getattr(self, name) for name in names} | {"says": "\n".join(self.says)}


@dataclass(frozen=True)
class _Run:
    """A run under way."""

    number: int
    row: SourceRecord
    kind: str
    product: Product
    actor: Actor


def run(database: Database, number: int, going_on: GoingOn) -> None:
    """Ask one source; what became of it stands in its run."""
    begun = database.run(_begin, number)
    if begun is None:
        return
    count, outcome = _Count(), "failed"
    try:
        done = _read(database, begun, count, going_on)
        outcome = "done" if done else "stopped"
    except NotReached as trouble:
        count.trouble(begun.row.name, str(trouble))
    except Refused as refused:
        count.trouble(begun.row.name, refused.problem.detail)
    except Exception as broken:
        count.trouble(begun.row.name, f"broke off ({type(broken).__name__}); what was recorded before stays.")
        raise
    finally:
        database.run(_end, begun, count, outcome)


def _begin(tx: Transaction, number: int) -> _Run | None:
    row = store.one(tx.connection, number)
    if row is None:
        return None
    store.end_left_runs(tx.connection, number, tx.now)
    is_full = row.asked == "full" or row.full_at is None or tx.now - in_utc(row.full_at) > FULL_EVERY
    kind = "dry" if row.asked == "dry" else "full" if is_full else "between"
    run_id = store.begin_run(
        tx.connection, {"source_id": number, "kind": kind, "began_at": tx.now, **_Count().values()}
    )
    products = {each.id: each for each in pools_service.products(tx)}
    accounts = accounts_service.known(tx)
    scope = accounts.tree.codes[accounts.row_of_id[row.account_id]]
    return _Run(run_id, row, kind, products[row.product_id], Actor(f"source {row.name}", "", scope))


def _end(tx: Transaction, begun: _Run, count: _Count, outcome: str) -> None:
    store.change_run(tx.connection, begun.number, count.values() | {"ended_at": tx.now, "outcome": outcome})
    there = store.one(tx.connection, begun.row.id)
    if there is None:
        return
    failures = there.failures + 1 if outcome == "failed" else 0
    values: dict[str, Any] = {"failures": failures, "asked": None}
    values["due_at"] = sources.next_due(tx.now, there.every_minutes, failures)
    if outcome == "done" and begun.kind == "full":
        values["full_at"] = tx.now
    if outcome == "stopped":
        values["due_at"] = tx.now  # whoever comes next goes on
    store.change(tx.connection, begun.row.id, values)


def _read(database: Database, begun: _Run, count: _Count, going_on: GoingOn) -> bool:
    """Whether all of it was read."""
    settings = begun.row.settings
    if begun.row.kind == "drop":
        folder = found_below(Path(settings["folder"]), sources.roots(database.settings))
        return dropped.take_in(database, begun.actor, begun.product, folder, begun.kind == "dry", count, going_on)
    system = _system(database, begun)
    if not system.can_list:
        return all(
            _read_some(database, begun, system, count, [subject for subject, _ in some], going_on)
            for some in _people(database, begun)
        )
    before = database.run(lambda tx: store.series(tx.connection, begun.row.id))
    seen: set[str] = set()
    done = _read_some(database, begun, system, count, [], going_on, seen)
    gone = {subject: at for subject, at in before.items() if subject not in seen}
    if done and gone and begun.kind != "dry":
        database.run(_empty, begun, gone)
    return done


def _system(database: Database, begun: _Run) -> StorageSystem:
    row, settings = begun.row, begun.row.settings
    if row.kind not in sources.LOCAL:
        secret = sealing.unseal(database.settings, row.sealed or "")
        if secret is None:
            what = sources.SECRETS[row.kind]
            raise NotReached(f"The {what} cannot be read with the key of this installation; enter it again.")
        listed = networks(database.settings.outbound)
        at = {name: settings[name] for name in ("host", "port", "security")}
        if row.kind == "imap":
            return ImapStore(**at, master=settings["master"], password=secret, listed=listed)
        from fair_ladle.connectors.object_store import ObjectStore  # with its library, which few installations need

        names = {name: settings[name] for name in sources.OBJECTS}
        return ObjectStore(**at, **names, secret_key=secret, listed=listed)
    memory = database.settings.home / "scans" / f"{row.id}.npz"
    allowed = sources.roots(database.settings)
    return FileTree(Path(settings["folder"]), allowed, memory, begun.kind != "between", settings["pace"])


def _people(database: Database, begun: _Run) -> Iterator[list[tuple[str, Any]]]:
    """The people of the branch that a system is asked about, part by part, by what they are called there."""
    after = 0
    while True:
        rows = database.run(_some_people, begun, after)
        if not rows:
            return
        after = rows[-1].id
        yield [(name, row) for row in rows if (name := _called(begun, row))]


def _called(begun: _Run, person: PersonRecord) -> str | None:
    name: str | None = person.email if begun.row.settings["by_email"] else person.username
    return name


def _some_people(tx: Transaction, begun: _Run, after: int) -> list[Any]:
    accounts = accounts_service.known(tx)
    row = accounts.row_of_id[begun.row.account_id]
    return store.people_in(
        tx.connection, accounts_service.in_branch(accounts, row, people.c.account_id), after, AT_ONCE
    )


def _read_some(
    database: Database,
    begun: _Run,
    system: StorageSystem,
    count: _Count,
    subjects: list[str],
    going_on: GoingOn,
    seen: set[str] | None = None,
) -> bool:
    """Ask about these subjects (or all), and record what is said in parts; whether all of it was read."""
    part: list[Found] = []

    def flush() -> None:
        if part:
            _take(database, begun, system, count, list(part), going_on)
            part.clear()

    for each in system.usage(subjects, going_on):
        if isinstance(each, Trouble):
            count.trouble(each.subject, each.says)
        elif (why := _why_not(each)) is not None:
            count.trouble(each.subject, f"not recorded: {why}")
        else:
            part.append(each)
        if seen is not None:
            seen.add(each.subject)
        count.found += 1
        if len(part) >= AT_ONCE:
            flush()
    flush()
    return going_on()


def _why_not(found: Found) -> str | None:
    """Why what a system says of a subject is not recorded; None where it is."""
    if len(found.subject) > LONGEST_NAME or not found.subject.isprintable():
        return f"its name has more than {LONGEST_NAME} characters, or some that cannot be printed"
    return None if 0 <= found.bytes <= MOST_BYTES else f"{found.bytes} bytes is no size"


def _take(
    database: Database, begun: _Run, system: StorageSystem, count: _Count, part: list[Found], going_on: GoingOn
) -> None:
    if begun.kind == "dry":
        for each in part[: max(0, TOLD - len(count.says))]:
            count.says.append(f"{each.subject}: {begun.product.said(usage.grains(each.bytes))}")
        database.run(lambda tx: store.change_run(tx.connection, begun.number, count.values()))
        return
    recorded, nobodys, wanted = database.run(_record, begun, part)
    count.recorded += recorded
    for subject in nobodys:
        count.trouble(subject, "no account of this branch is called so")
    if begun.row.settings["sets_limits"] and system.can_limit and wanted:
        refused = list(system.set_limits(wanted, going_on))
        for trouble in refused:
            count.trouble(trouble.subject, f"limit not set: {trouble.says}")
        count.limited += len(wanted) - len(refused)
    database.run(lambda tx: store.change_run(tx.connection, begun.number, count.values()))


def _record(tx: Transaction, begun: _Run, part: Iterable[Found]) -> tuple[int, list[str], list[tuple[str, int | None]]]:
    """Record what was said of some subjects, each where it is recorded already or where it belongs; how many, those
    that are no account of the branch, and the limits in bytes that are others here than there."""
    accounts, now = accounts_service.known(tx), tx.now
    found = list(part)
    subjects = [each.subject for each in found]
    there = store.series(tx.connection, begun.row.id, subjects)
    known = _known_people(tx, begun, subjects)
    sizes: dict[Recorded, int] = {}
    left = set[Recorded]()
    kept, nobodys = [], []
    homes = {each: _home(begun, accounts, each, known.get(each)) for each in subjects}
    stays = _where_some_is_left(tx, begun, accounts, there, homes)
    for each in found:
        before = there.get(each.subject)
        place = before if before in stays else homes[each.subject]
        if place is None:
            nobodys.append(each.subject)
            continue
        sizes[place] = each.bytes
        if before is not None and before != place:
            left.add(before)
        of = {"account_id": place[0], "category": place[1]}
        kept.append({"source_id": begun.row.id, "subject": each.subject, **of})
    if sizes:
        left = {place for place in left if place[0] in accounts.row_of_id}
        left -= store.of_others(tx.connection, begun.row.id, left, subjects)
        sizes = dict.fromkeys(sorted(left), 0) | sizes
        rows = [
            {"account_id": account_id, "category": category, "at": now, "bytes": size}
            for (account_id, category), size in sizes.items()
        ]
        storing.report_sizes(tx, begun.product, rows)
        store.put_series(tx.connection, kept)
    return len(kept), nobodys, _other_limits(tx, begun, found, known)


def _known_people(tx: Transaction, begun: _Run, subjects: list[str]) -> dict[str, Any]:
    if begun.row.settings["subjects"] != "people":
        return {}
    if begun.row.settings["by_email"]:
        accounts = accounts_service.known(tx)
        found = people_service.by_email(tx, {each.lower() for each in subjects})
        mine = {
            email: next((row for row in rows if accounts_service.sees(accounts, begun.actor, row.account_id)), None)
            for email, rows in found.items()
        }
        return {each: mine[each.lower()] for each in subjects if mine.get(each.lower()) is not None}
    return dict(people_service.by_username(tx, subjects))


def _home(begun: _Run, accounts: Accounts, subject: str, person: PersonRecord | None) -> Recorded | None:
    """Account and category of a subject: where the person or the account of that name is; of nobody known, in the
    source's account under that name. None where no account of the branch is called so."""
    part = PARTS[begun.row.kind]
    if subject == ".":
        return begun.row.account_id, part
    if begun.row.settings["subjects"] == "accounts":
        if not accounts_service.is_in_scope(accounts, begun.actor, subject):
            return None
        return int(accounts.ids[accounts.tree.row(subject)]), part
    if person is not None and accounts_service.sees(accounts, begun.actor, person.account_id):
        return person.account_id, f"{usage.home(person.username)}/{part}"
    return begun.row.account_id, f"{usage.home(subject)}/{part}"


def _where_some_is_left(
    tx: Transaction,
    begun: _Run,
    accounts: Accounts,
    there: Mapping[str, Recorded],
    homes: Mapping[str, Recorded | None],
) -> set[Recorded]:
    """Where bytes of subjects lie already, in accounts that are no longer theirs: until they are moved on purpose."""
    if begun.row.settings["subjects"] == "accounts":
        return set()
    elsewhere = {
        before
        for subject, before in there.items()
        if (home := homes[subject]) is not None and before[0] != home[0] and before[0] in accounts.row_of_id
    }
    return {place for place, size in usage.sizes_at(tx, begun.product, elsewhere, tx.now).items() if size > 0}


def _other_limits(
    tx: Transaction, begun: _Run, found: list[Found], known: dict[str, Any]
) -> list[tuple[str, int | None]]:
    """What the layers let these people store, where the system has another limit."""
    mine = [known[each.subject] for each in found if each.subject in known]
    limits = personal_storage.of_people(tx, begun.actor, mine)
    wanted = []
    for each in found:
        person = known.get(each.subject)
        if person is None:
            continue
        stored = next((s for s in limits.get(person.username, []) if s.product.id == begun.product.id), None)
        limit = None if stored is None or stored.limit is None else stored.limit * BYTES_PER_GRAIN
        # A system counts in steps of its own: what is as near as that is the same.
        if (limit is None) != (each.limit is None) or (limit and abs(limit - (each.limit or 0)) >= STEP_BYTES):
            wanted.append((each.subject, limit))
    return wanted


STEP_BYTES = 1024


def _empty(tx: Transaction, begun: _Run, gone: dict[str, tuple[int, str]]) -> None:
    """Record that what a system names no longer is not there any more."""
    now: datetime = tx.now
    rows = [
        {"account_id": account_id, "category": category, "at": now, "bytes": 0}
        for account_id, category in sorted(set(gone.values()))
    ]
    storing.report_sizes(tx, begun.product, rows)
    store.drop_series(tx.connection, begun.row.id, gone)
