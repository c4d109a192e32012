"""Systems that are asked who stores how much, and tables of sizes: what is recorded, what is told, and what is left."""

from __future__ import annotations

import json
import os
import threading
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.assignments import storing
from fair_ladle.app.assignments import usecases as checks
from fair_ladle.app.people_admin import acting
from fair_ladle.app.people_admin import listing as people_listing
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.people_admin.seat_acts import ActOptions
from fair_ladle.app.personal_storage import usecases as personal_storage
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools
from fair_ladle.app.storage import listing
from fair_ladle.app.storage_systems import running, sources, tables_in
from fair_ladle.app.storage_systems.sources import SourceTerms
from fair_ladle.app.storage_systems.tables import storage_source_series
from fair_ladle.connectors.storage import Found, GoingOn, NotReached, Trouble
from tests.connectors.object_stand_in import BUCKET, KEY, REGION, SECRET, object_store

P, GB = "COLDVAULT", 10**9
OPERATOR, OLDQUAY = Actor("Ines", "", "GANNET"), Actor("Maren", "", "OLDQUAY")
TREE = SourceTerms("OLDQUAY", P, "tree", "Share", 60)
MAIL = SourceTerms("OLDQUAY", P, "imap", "Mail", 60, "mail.example", 993, "tls", "steward", sets_limits=True)


@pytest.fixture
def here(demo: Database, tmp_path: Path) -> Path:
    for name in ("share", "home"):
        (tmp_path / name).mkdir()
    demo.settings = replace(demo.settings, storage_roots=str(tmp_path), home=tmp_path / "home")
    demo.run(assignments.rebuild_stale)
    return tmp_path / "share"


@pytest.fixture(autouse=True)
def sound(demo: Database) -> Iterator[None]:
    yield
    assert demo.run(checks.verify, COMMAND_LINE) == []


def always() -> bool:
    return True


def people(database: Database, account: str) -> list[str]:
    rows = database.run(people_listing.listing, OLDQUAY, Asked(account=account, status="active")).rows
    return [row.person.username for row in rows]


def stored(database: Database, account: str = "OLDQUAY") -> dict[tuple[str, str], int]:
    rows = database.run(listing.holders, OLDQUAY, P, account, "people", "all", "size", "", 0, 500).rows
    return {(each.account, each.name): each.size.now for each in rows if each.size.now}


def newest(database: Database, number: int) -> Any:
    return next(each for each in database.run(sources.listing, OPERATOR) if each.number == number).runs[0].row


def fill(folder: Path, megabytes: int) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "file").write_bytes(os.urandom(megabytes * 1_000_000 // 4096 * 4096 + 4096))


def test_a_tree_of_folders_is_recorded_until_it_is_gone(demo: Database, here: Path) -> None:
    ada, ben, *_ = people(demo, "OLDQUAY-CREW")
    for name, size in ((ada, 3), (ben, 2), ("gone.hand", 1)):
        fill(here / name / "deep", size)
    number = demo.run(sources.put, OPERATOR, None, replace(TREE, folder=str(here)), None)
    demo.run(sources.run_now, OPERATOR, number, True)
    running.run(demo, number, always)
    tried = newest(demo, number)
    assert (tried.kind, tried.outcome, tried.found, tried.recorded) == ("dry", "done", 3, 0) and ada in tried.says
    running.run(demo, number, always)
    expected = {("OLDQUAY-CREW", ada): 3, ("OLDQUAY-CREW", ben): 2, ("OLDQUAY", "gone.hand"): 1}
    assert stored(demo) == expected and newest(demo, number).kind == "full"

    demo.run(acting.act, OLDQUAY, "move", Asked(usernames=(ben,)), ActOptions(to_account="OLDQUAY-HARBOUR"))
    (here / ada / "deep" / "more").write_bytes(os.urandom(2_000_000))
    running.run(demo, number, always)
    assert stored(demo) == expected | {("OLDQUAY-CREW", ada): 5}, "bytes stay where they were until they are moved"
    assert newest(demo, number).kind == "between"

    (here / ada / "deep" / "file").unlink()
    (here / "gone.hand" / "deep" / "file").unlink()
    os.removedirs(here / "gone.hand" / "deep")
    running.run(demo, number, always)
    assert stored(demo) == {("OLDQUAY-CREW", ada): 2, ("OLDQUAY-CREW", ben): 2}

    for name, size in (("old@one.example", 1), ("old@two.example", 2)):
        fill(here / name, size)
    running.run(demo, number, always)
    with demo.transaction() as tx:  # as both were kept once, under one name
        account_id, category = accounts_service.ids_by_code(tx)["OLDQUAY"], "home/old/files"
        series = sa.update(storage_source_series).where(storage_source_series.c.subject.startswith("old@"))
        tx.connection.execute(series.values(category=category))
        sample = {"account_id": account_id, "category": category, "at": tx.now, "bytes": 9_000_000}
        storing.report_sizes(tx, pools.product(tx, P), [sample])
    running.run(demo, number, always)
    strangers = {("OLDQUAY", "old@one.example"): 1, ("OLDQUAY", "old@two.example"): 2}
    known = {("OLDQUAY-CREW", ada): 2, ("OLDQUAY-CREW", ben): 2}
    assert stored(demo) == known | strangers, "each of those whom nobody knows by itself"

    here.rename(here.with_name("elsewhere"))
    running.run(demo, number, always)
    [source] = demo.run(sources.listing, OPERATOR)
    assert (source.runs[0].row.outcome, source.failures) == ("failed", 1) and "not there" in source.runs[0].row.says
    assert stored(demo) == known | strangers, "what vanished is not taken as empty"
    now = demo.clock.now()
    assert [sources.next_due(now, 5, each) - now for each in (0, 1, 4, 30)] == [
        timedelta(minutes=5),
        timedelta(minutes=5),
        timedelta(minutes=16),
        timedelta(hours=6),
    ]


def test_a_folder_with_an_odd_name_keeps_nothing_else_from_being_recorded(demo: Database, here: Path) -> None:
    ada, ben, *_ = people(demo, "OLDQUAY-CREW")
    odd = [os.fsdecode(b"\xff\xfe"), "in\ntwo", "a" * 129]
    for name in (ada, ben, "a" * 128, "%s '", *odd):
        fill(here / name, 1)
    number = demo.run(sources.put, OPERATOR, None, replace(TREE, folder=str(here)), None)
    running.run(demo, number, always)
    ran = newest(demo, number)
    assert (ran.outcome, ran.found, ran.recorded, ran.troubles) == (
        "done",
        7,
        4,
        3,
    ) and "in\N{REPLACEMENT CHARACTER}two" in ran.says
    assert {name for _, name in stored(demo)} == {ada, ben, "a" * 128, "%s '"}
    (here / ben / "file").unlink()
    (here / ben).rmdir()
    running.run(demo, number, always)
    assert ben not in {name for _, name in stored(demo)}, "what is gone is seen, though there is trouble with others"


def test_an_object_store_is_recorded_and_one_that_breaks_off_changes_nothing_of_whom_it_did_not_reach(
    demo: Database, here: Path
) -> None:
    ada, ben, *_ = sorted(people(demo, "OLDQUAY-CREW"))
    million = 1_000_000
    objects = {f"teams/{ada}/{n}": n * million for n in (1, 2, 3, 4)} | {
        f"teams/{ben}/x": 2 * million,
        "teams/zz-old/y": million,
        "teams/index": 3 * million,
    }
    broken = False
    demo.settings = replace(demo.settings, outbound="127.0.0.1")
    with object_store(objects, lambda token: b"<Error/>" if broken and token else None) as port:
        at = {"kind": "objects", "host": "127.0.0.1", "port": port, "security": "none", "bucket": BUCKET}
        terms = replace(TREE, **at, access_key=KEY, region=REGION, prefix="/teams/")
        with pytest.raises(Refused, match="secret key is missing"):
            demo.run(sources.put, OLDQUAY, None, terms, None)
        number = demo.run(sources.put, OLDQUAY, None, terms, SECRET)
        running.run(demo, number, always)
        expected = {("OLDQUAY-CREW", ada): 10, ("OLDQUAY-CREW", ben): 2, ("OLDQUAY", "zz-old"): 1}
        assert stored(demo) == expected
        accounts = demo.run(listing.holders, OLDQUAY, P, "OLDQUAY", "categories", "all", "size", "", 0, 50).rows
        assert {each.name: each.size.now for each in accounts}["objects"] == 3, (
            "what lies in no folder is the account's"
        )

        objects[f"teams/{ben}/x"], broken = 9 * million, True
        running.run(demo, number, always)
        assert stored(demo) == expected and newest(demo, number).outcome == "failed"
        assert SECRET not in newest(demo, number).says
        broken = False
        del objects["teams/zz-old/y"]
        running.run(demo, number, always)
        assert stored(demo) == {("OLDQUAY-CREW", ada): 10, ("OLDQUAY-CREW", ben): 9}


class Mailboxes:
    """A mail store with limits."""

    can_list, can_limit = False, True

    def __init__(self, sizes: dict[str, int]):
        self.sizes: dict[str, int] = sizes
        self.limits: dict[str, int | None] = {}
        self.ends_after: int | None = None

    def usage(self, subjects: Sequence[str], going_on: GoingOn) -> Iterator[Found | Trouble]:
        for place, each in enumerate(subjects):
            if self.ends_after is not None and place >= self.ends_after:
                raise NotReached("mail.example stopped answering")
            if each in self.sizes:
                yield Found(each, self.sizes[each], limit=self.limits.get(each))
            else:
                yield Trouble(each, "no such mailbox")

    def set_limits(self, wanted: Sequence[tuple[str, int | None]], going_on: GoingOn) -> Iterator[Trouble]:
        self.limits.update(wanted)
        yield from ()


def test_mailboxes_get_the_limits_of_the_layers(demo: Database, here: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    names = people(demo, "OLDQUAY-CREW")
    demo.run(personal_storage.set_limit, OLDQUAY, "OLDQUAY-CREW", None, P, "2")
    system = Mailboxes(dict.fromkeys(names[:2], GB))
    monkeypatch.setattr(running, "_system", lambda *_: system)
    number = demo.run(sources.put, OLDQUAY, None, replace(MAIL, account="OLDQUAY-CREW"), "secret words")
    running.run(demo, number, always)
    run = newest(demo, number)
    assert (run.outcome, run.recorded, run.limited, run.troubles) == ("done", 2, 2, len(names) - 2)
    assert system.limits == dict.fromkeys(names[:2], 2 * GB)
    assert {name for _, name in stored(demo)} == set(names[:2])
    running.run(demo, number, always)
    assert newest(demo, number).limited == 0, "what is as it should be is left"
    system.ends_after = 1
    system.sizes[names[0]] = 5 * GB
    running.run(demo, number, always)
    assert newest(demo, number).outcome == "failed"
    system.ends_after = None
    system.sizes |= {names[1]: -1, names[2]: 10**25}
    running.run(demo, number, always)
    assert newest(demo, number).recorded == 1 and f"{names[1]}: not recorded: -1 bytes" in newest(demo, number).says
    assert stored(demo)["OLDQUAY-CREW", names[0]] == 5000, "the next run mends it"


def test_a_password_is_sealed_and_never_told(demo: Database, here: Path) -> None:
    number = demo.run(sources.put, OLDQUAY, None, MAIL, "secret words")
    with demo.transaction() as tx:
        kept = tx.connection.execute(sa.text("SELECT * FROM storage_sources")).one()
        assert "secret words" not in repr(kept)
    [source] = demo.run(sources.listing, OLDQUAY)
    assert source.has_password and "secret" not in repr(source)
    with pytest.raises(Refused, match="master user's password again"):
        demo.run(sources.put, OLDQUAY, number, replace(MAIL, host="other.example"), None)
    with pytest.raises(Refused, match="password again"):
        demo.run(sources.put, OLDQUAY, number, replace(MAIL, security="none"), None)
    demo.run(sources.put, OLDQUAY, number, replace(MAIL, name="Other"), None)
    assert demo.run(sources.listing, Actor("Tilde", "", "TERN")) == []
    for act in (sources.drop, lambda tx, who, n: sources.run_now(tx, who, n, False)):
        with pytest.raises(Refused, match="no such storage source"):
            demo.run(act, Actor("Tilde", "", "TERN"), number)


@pytest.mark.parametrize(
    ("who", "terms", "why"),
    [
        (OLDQUAY, {"kind": "tree", "folder": "/srv"}, "Only the operator"),
        (OPERATOR, {"kind": "tree", "folder": "/etc"}, "none of the roots"),
        (OPERATOR, {"kind": "drop", "folder": "share"}, "from / on"),
        (OPERATOR, {"kind": "imap", "host": "mail.example"}, "master user"),
        (OLDQUAY, {"account": "TERN", "kind": "imap"}, "no account"),
        (OLDQUAY, {"kind": "objects", "host": "store.example", "access_key": "a"}, "bucket"),
        (OLDQUAY, {"kind": "objects", "host": "s.example", "access_key": "a", "bucket": "../x"}, "3 to 63"),
        (OPERATOR, {"every_minutes": 1, "folder": "/"}, "From every 5"),
        (OPERATOR, {"product": "LANTERN-MAIL", "folder": "/"}, "not storage"),
    ],
)
def test_a_source_that_cannot_be_is_refused(
    demo: Database, here: Path, who: Actor, terms: dict[str, Any], why: str
) -> None:
    with pytest.raises(Refused, match=why):
        demo.run(sources.put, who, None, replace(TREE, **terms), "secret words")


def table(database: Database, rows: Sequence[dict[str, Any]]) -> bytes:
    now = database.clock.now().isoformat()
    return "\n".join(json.dumps({"at": now} | row) for row in rows).encode()


def test_what_is_dropped_is_recorded_whole_or_not_at_all(
    demo: Database, here: Path, tmp_path_factory: pytest.TempPathFactory
) -> None:
    ada, *_ = people(demo, "OLDQUAY-CREW")
    number = demo.run(sources.put, OPERATOR, None, replace(TREE, kind="drop", folder=str(here)), None)
    good = [{"person": ada, "category": "mail", "bytes": GB}, {"account": "OLDQUAY-CREW", "folder": "LOGS", "bytes": 2}]
    (here / "good.jsonl").write_bytes(table(demo, good))
    (here / "bad.jsonl").write_bytes(table(demo, [*good, {"person": ada, "bytes": -1}]))
    (here / "elsewhere.csv").write_text("account,category,bytes\nTERN,scans,5\n")
    (here / "link.csv").symlink_to("/etc/passwd")
    running.run(demo, number, always)
    assert sorted(each.name for each in (here / "done").iterdir()) == ["good.jsonl"]
    assert sorted(each.name for each in (here / "failed").iterdir()) == [
        "bad.jsonl",
        "bad.jsonl.log",
        "elsewhere.csv",
        "elsewhere.csv.log",
    ]
    assert "row 3, bytes" in (here / "failed" / "bad.jsonl.log").read_text() and (here / "link.csv").is_symlink()
    is_written, so_far = threading.Event(), here / "large.csv"

    def write_on() -> None:
        with so_far.open("w") as file:
            file.write("account,category,bytes\n")
            while not is_written.wait(0.2):
                file.write("OLDQUAY-CREW,scans,5\n")
                file.flush()

    writer = threading.Thread(target=write_on)
    writer.start()
    running.run(demo, number, always)
    assert so_far.exists(), "what is still written to waits"
    is_written.set()
    writer.join()
    assert stored(demo) == {("OLDQUAY-CREW", ada): 1000}

    elsewhere = tmp_path_factory.mktemp("elsewhere")
    (here / "done").rename(elsewhere / "done")
    (here / "done").symlink_to(elsewhere)
    (here / "good.jsonl").write_bytes(table(demo, good))
    os.utime(here / "good.jsonl", (0, 0))
    running.run(demo, number, always)
    assert "good.jsonl: cannot be put aside" in newest(demo, number).says and not (elsewhere / "good.jsonl").exists()
    here.rename(elsewhere / "here")
    here.symlink_to(elsewhere / "here")
    running.run(demo, number, always)
    assert newest(demo, number).outcome == "failed" and "below none of the roots" in newest(demo, number).says


@pytest.mark.parametrize(
    ("row", "column"),
    [
        ({"bytes": "lots"}, "bytes"),
        ({"bytes": 1.5}, "bytes"),
        ({"bytes": 10**18}, "bytes"),
        ({"at": "2026-11-27"}, "at"),
        ({"at": "2099-01-01T00:00:00+00:00"}, "at"),
        ({"folder": "X", "person": "y"}, "folder"),
        ({"category": ""}, "category"),
    ],
)
def test_a_fault_is_told_with_its_row_and_column(shared_demo: Database, row: dict[str, Any], column: str) -> None:
    content = table(
        shared_demo, [{"category": "x", "bytes": 1}, {"category": "x", "bytes": 1, "folder": "", "person": ""} | row]
    )
    found = tables_in.read("sizes.jsonl", content, {}, shared_demo.clock.now())
    assert [(each.row, each.column) for each in found.faults] == [(2, column)]


def test_columns_of_other_names_are_chosen(shared_demo: Database) -> None:
    content = b"Wer;Wieviel\nada;5\n"
    read: Callable[..., tables_in.Read] = tables_in.read
    assert read("t.csv", content, {}, shared_demo.clock.now()).rows == []
    found = read("t.csv", content, {"person": 0, "bytes": 1}, shared_demo.clock.now())
    assert [(each.number, each.report.where.person, each.report.bytes) for each in found.rows] == [(2, "ada", 5)]


def test_a_table_names_products_and_parts_and_one_size_of_a_place(demo: Database) -> None:
    ada, *_ = people(demo, "OLDQUAY-CREW")
    at = demo.clock.now() - timedelta(minutes=1)
    crew = {"account": "OLDQUAY-CREW"}
    rows: list[dict[str, Any]] = [
        crew | {"folder": "LOGS", "category": "scans", "bytes": 2 * GB},
        crew | {"folder": "LOGS", "category": "plans", "bytes": 3 * GB},
        crew | {"person": ada, "product": "COLDVAULT", "bytes": 5 * GB},
        crew | {"person": ada, "product": "", "bytes": 7 * GB},
        {"person": ada, "product": "DEEPSHELF", "bytes": 7 * GB},
    ]

    def record(more: Sequence[dict[str, Any]] = ()) -> tuple[int, list[tables_in.RowFault]]:
        content = table(demo, [each | {"at": at.isoformat()} for each in [*rows, *more]])
        found = tables_in.read("sizes.jsonl", content, {}, demo.clock.now())
        faults = demo.snapshot(tables_in.without_place, OPERATOR, "DEEPSHELF", "OLDQUAY", found.rows)
        count, wrong = demo.run(tables_in.record, OPERATOR, "DEEPSHELF", "OLDQUAY", found.rows)
        assert wrong == faults and bool(wrong) == (count == 0)
        return count, wrong

    said = [(each.row, each.column) for each in record([rows[3] | {"bytes": 8}, rows[2] | {"product": "NUMBERS"}])[1]]
    assert said == [(6, "bytes"), (7, "product")]
    assert record() == (4, [])
    with demo.engine.connect() as connection:
        kept = connection.execute(
            sa.text(
                "SELECT p.code, s.category, s.bytes FROM storage_samples s JOIN products p ON p.id = s.product_id "
                "JOIN accounts a ON a.id = s.account_id WHERE a.code = 'OLDQUAY-CREW' AND s.at = :at"
            ),
            {"at": at.replace(tzinfo=None)},
        ).all()
    assert sorted(map(tuple, kept)) == [
        ("COLDVAULT", f"home/{ada}", 5 * GB),
        ("DEEPSHELF", "folder/LOGS/plans", 3 * GB),
        ("DEEPSHELF", "folder/LOGS/scans", 2 * GB),
        ("DEEPSHELF", f"home/{ada}", 7 * GB),
    ]
