"""Storage systems: what they may write, what they hold for uploads, and what they report, under the limits that hold for
seats too."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import suppress
from datetime import datetime, timedelta
from typing import Any

import pytest
from fastapi.testclient import TestClient

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import views
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.assignments import usecases as checks
from fair_ladle.app.devices import usecases as devices
from fair_ladle.app.drafts.change_types import AllocationChange, NewAccount, StatusChange, Terms
from fair_ladle.app.drafts.preview import apply_changes
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.people_admin import groups
from fair_ladle.app.people_admin.groups import GroupTerms
from fair_ladle.app.personal_storage import usecases as personal_storage
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.prepared import ask
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools
from fair_ladle.app.storage import folders, listing
from fair_ladle.app.storage.folders import FolderTerms
from fair_ladle.app.storage_systems import unplaced, usecases
from fair_ladle.app.storage_systems.usecases import Report, Where
from fair_ladle.app.usage import service as usage
from fair_ladle.jobs import DeleteFolders, EndReservations
from tests.conftest import do_job

P, GB = "DEEPSHELF", 10**9
OLDQUAY = Actor("Maren", "", "OLDQUAY")
HARBOUR = "OLDQUAY-HARBOUR"


@pytest.fixture
def key(demo: Database) -> str:
    demo.run(assignments.rebuild_stale)
    return demo.run(devices.make_key, COMMAND_LINE, "OLDQUAY", P, "Filer")[1]


@pytest.fixture(autouse=True)
def sound(demo: Database) -> Iterator[None]:
    yield
    assert demo.run(checks.verify, COMMAND_LINE) == []


def cap(database: Database, account: str, room: int) -> int:
    """Let an account be blocked so many grains above what it stores now; its load."""

    def limited(tx: Transaction) -> int:
        found = views.cell(tx, COMMAND_LINE, account, P)
        load = int(found.positions.settled.load[found.row, 0])
        change = AllocationChange(
            account=account,
            product=P,
            terms=Terms(cap=load + room),
            seen=found.version.id if found.version else None,
            was=terms_of(found.version),
        )
        apply_changes(tx, COMMAND_LINE, [change], "a test")
        return load

    return database.run(limited)


def load(database: Database, account: str) -> int:
    return database.run(
        lambda tx: (c := views.cell(tx, COMMAND_LINE, account, P)) and int(c.positions.settled.load[c.row, 0])
    )


def test_an_upload_is_held_committed_or_given_up(demo: Database, key: str) -> None:
    before = cap(demo, HARBOUR, 10_000)
    here = Where(HARBOUR, category="media")
    assert demo.run(usecases.may_write, key, here, 10 * GB).admitted
    assert not demo.run(usecases.may_write, key, here, 10 * GB + 1).admitted
    token, _ = demo.run(usecases.reserve, key, here, 7 * GB, 60)
    assert load(demo, HARBOUR) == before + 7000
    with pytest.raises(Refused, match=r"can take 3 GB more, limited by Harbour Branch's cap"):
        demo.run(usecases.reserve, key, here, 3 * GB + 1, 60)
    demo.run(usecases.commit, key, token, 5 * GB)
    assert load(demo, HARBOUR) == before + 5000
    with pytest.raises(Refused, match="committed"):
        demo.run(usecases.cancel, key, token)
    other, _ = demo.run(usecases.reserve, key, here, 4 * GB, 60)
    demo.run(usecases.cancel, key, other)
    late, _ = demo.run(usecases.reserve, key, here, 4 * GB, 60)
    demo.clock.shift += timedelta(seconds=61)
    do_job(demo, EndReservations())
    assert load(demo, HARBOUR) == before + 5000
    with pytest.raises(Refused, match="time is over"):
        demo.run(usecases.commit, key, late, None)
    demo.run(usecases.write, key, here, -2 * GB)
    assert load(demo, HARBOUR) == before + 3000
    demo.run(usecases.write, key, here, -7 * GB)  # no more is given back than is there
    assert load(demo, HARBOUR) == before


def test_many_at_once_never_pass_a_cap(demo: Database, key: str) -> None:
    before = cap(demo, HARBOUR, 10_000)
    admitted: list[str] = []

    def upload(number: int) -> None:
        for turn in range(4):
            try:
                token, _ = demo.run(usecases.reserve, key, Where(HARBOUR, category=f"c{number}"), 999_600_000, 600)
                admitted.append(token)
                if turn % 2:
                    demo.run(usecases.commit, key, token, None)
            except Refused:
                pass

    threads = [threading.Thread(target=upload, args=(number,)) for number in range(6)]
    for each in threads:
        each.start()
    for each in threads:
        each.join()
    assert len(admitted) == 10, "ten of 999.6 MB fit below 10 GB, whoever came first"
    assert before + 9_996 <= load(demo, HARBOUR) <= before + 10_000
    with pytest.raises(Refused):
        demo.run(usecases.write, key, Where(HARBOUR, category="c0"), 5_000_000)


def test_what_moves_and_what_is_written_at_once_never_pass_a_cap(demo: Database, key: str) -> None:
    crew = "OLDQUAY-CREW"
    demo.run(usecases.write, key, Where(HARBOUR, folder="CHARTS"), 4 * GB)
    before = cap(demo, crew, 5_010)  # each total is rounded up
    done: list[int] = []

    def one(work: Callable[..., Any], *asked: Any) -> None:
        with suppress(Refused):
            demo.run(work, *asked)
            done.append(4_000 if work is folders.move else 1_000)

    writes = [(usecases.write, key, Where(crew, category=f"c{number}"), GB) for number in range(5)]
    asked = [*writes[:2], (folders.move, OLDQUAY, P, HARBOUR, "CHARTS", crew), *writes[2:]]
    threads = [threading.Thread(target=one, args=each) for each in asked]
    for each in threads:
        each.start()
    for each in threads:
        each.join()
    assert sum(done) == 5_000 and load(demo, crew) == before + 5_000, "one write beside the move, or five without it"


def test_a_write_adds_to_what_another_server_wrote_whose_clock_is_ahead(demo: Database, key: str) -> None:
    before = load(demo, HARBOUR)
    for size, seconds in ((3, 0), (4, 30), (5, -20)):
        demo.clock.shift += timedelta(seconds=seconds)
        demo.run(usecases.write, key, Where(HARBOUR, category="lens"), size * GB)
    demo.clock.shift += timedelta(seconds=30)
    found = demo.run(listing.holders, OLDQUAY, P, HARBOUR, "categories", "all", "size", "", 0, 99).rows
    assert {each.name: each.size.now for each in found}["lens"] == 12_000
    assert load(demo, HARBOUR) == before + 12_000


def test_what_is_there_is_reported_whatever_the_limits(demo: Database, key: str) -> None:
    before = cap(demo, HARBOUR, 1000)
    now = demo.clock.now()
    reports = [
        Report(Where(HARBOUR, category="scans"), now - timedelta(days=2), 9 * GB),
        Report(Where(HARBOUR, category="scans"), now, 12 * GB),
        Report(Where(HARBOUR, folder="TIDES"), now + timedelta(seconds=30), 2 * GB, used_at=now - timedelta(days=400)),
        Report(Where("NOWHERE", category="scans"), now, GB),
        Report(Where("TERN", category="scans"), now, GB),
        Report(Where(HARBOUR, category="scans"), now, -1),
        Report(Where(HARBOUR, category="scans"), now + timedelta(hours=1), GB),
        Report(Where(HARBOUR, category="scans", person="x"), now, GB),
        Report(Where(HARBOUR, person="gone.hand"), now, GB),
    ]
    done = demo.run(usecases.report, key, reports)
    assert (done.recorded, done.unplaced, [place for place, _ in done.refused]) == (4, 2, [5, 6, 7])
    assert "ahead of the clock" in dict(done.refused)[6]
    assert load(demo, HARBOUR) == before + 15_000, "over its cap, and that is told"
    again = demo.run(usecases.report, key, [*reversed(reports[:3]), reports[8]])
    assert again.recorded == 4 and load(demo, HARBOUR) == before + 15_000, "reported once more, nothing is other"
    demo.run(usecases.report, key, [Report(Where(HARBOUR, category="scans"), now - timedelta(days=1), GB)])
    assert load(demo, HARBOUR) == before + 15_000, "a late one changes the past alone"
    rows = demo.run(listing.holders, OLDQUAY, P, HARBOUR, "folders", "untouched", "size", "", 0, 9).rows
    assert [each.name for each in rows] == ["TIDES"]
    left = demo.run(listing.holders, OLDQUAY, P, HARBOUR, "people", "nobody", "size", "", 0, 9).rows
    assert "gone.hand" in {each.name for each in left}, "nobody is called so, and nothing is lost"

    crew = demo.run(devices.make_key, COMMAND_LINE, "OLDQUAY-CREW", P, "Crew's")[1]
    demo.run(usecases.report, crew, [Report(Where(HARBOUR, category="scans"), now, GB)])
    total, kept = demo.run(unplaced.listing, OLDQUAY)
    assert (total, [each.account for each in kept if not each.now_known]) == (3, ["NOWHERE", HARBOUR, "TERN"]), (
        "an account beside the key's is none of the key's"
    )
    assert demo.run(unplaced.act, OLDQUAY, "place", [HARBOUR]) == (0, 0)
    assert demo.run(unplaced.listing, Actor("Tilde", "", "TERN")) == (0, [])
    assert demo.run(unplaced.act, OLDQUAY, "place", ["NOWHERE", "TERN"]) == (0, 0)
    new = NewAccount(code="NOWHERE", parent="OLDQUAY", name="Nowhere", account_kind="sub-account")
    demo.run(apply_changes, OLDQUAY, [new], "a test")
    assert demo.run(unplaced.act, OLDQUAY, "place", ["NOWHERE", "TERN"]) == (1, 0)
    assert load(demo, "NOWHERE") == 1000
    assert demo.run(unplaced.act, OLDQUAY, "drop", ["TERN"]) == (1, 0)


def test_a_persons_own_limit_stops_at_once_or_after_its_grace(demo: Database, key: str) -> None:
    mine = demo.run(listing.holders, OLDQUAY, P, HARBOUR, "people", "all", "size", "", 0, 1).rows[0]
    where, used = Where(person=mine.name), mine.size.now
    limit = f"{(used + 2000) / 1000:.3f}"
    set_limit = personal_storage.set_limit

    def limited(what: Any, days: int | None = None) -> None:
        at = personal_storage.AtLimit(what, 80, days)
        demo.run(set_limit, OLDQUAY, "OLDQUAY", None, P, limit, at)

    limited("stop")
    assert demo.run(usecases.may_write, key, where, GB).admitted
    found = demo.run(usecases.may_write, key, where, 3 * GB)
    assert not found.admitted and found.person_used == used and mine.title in found.sentence
    with pytest.raises(Refused, match="default of Old Quay Ferries"):
        demo.run(usecases.reserve, key, where, 3 * GB, 60)
    token, _ = demo.run(usecases.reserve, key, where, GB, 600)
    with pytest.raises(Refused):
        demo.run(usecases.reserve, key, Where(person=mine.name, part="mail"), 2 * GB, 60)
    with pytest.raises(Refused, match="default of Old Quay Ferries"):
        demo.run(usecases.commit, key, token, 3 * GB)
    limited("grace", 3)
    demo.run(usecases.write, key, where, 3 * GB)
    demo.clock.shift += timedelta(days=2)
    assert demo.run(usecases.may_write, key, where, 10**6).admitted
    demo.clock.shift += timedelta(days=2)
    demo.run(assignments.rebuild_stale)
    with pytest.raises(Refused, match="days of grace ended"):
        demo.run(usecases.write, key, where, 10**6)
    limited("tell")
    demo.run(usecases.write, key, where, 10**6)


def test_what_may_be_written_is_what_is_written(demo: Database, key: str) -> None:
    """The answer before a write says what stops it: a folder's limit, one that is archived, an account suspended."""
    place, here = (P, HARBOUR, "CHARTS"), Where(HARBOUR, folder="CHARTS")
    demo.run(usecases.write, key, here, GB)
    demo.run(folders.put, OLDQUAY, *place, FolderTerms("Charts", None, 2000, True))

    def stops(why: str) -> None:
        found = demo.run(usecases.may_write, key, here, GB + 10**6)
        assert not found.admitted and why in found.sentence
        with pytest.raises(Refused, match=why):
            demo.run(usecases.write, key, here, GB + 10**6)

    assert demo.run(usecases.may_write, key, here, GB).admitted
    stops("Charts may store 2 GB, and would store 2.001 GB")
    token, _ = demo.run(usecases.reserve, key, here, GB, 60)
    with pytest.raises(Refused, match="Charts may store 2 GB"):
        demo.run(usecases.commit, key, token, GB + 10**6)
    demo.run(usecases.cancel, key, token)
    demo.run(folders.set_state, OLDQUAY, *place, "archived")
    stops("Charts is archived")
    for status, was in (("suspended", None), ("active", "suspended")):
        change = StatusChange(account=HARBOUR, status=status, was=was)
        demo.run(apply_changes, COMMAND_LINE, [change], "a test")
        stops("is suspended" if was is None else "Charts is archived")


def test_a_write_whose_day_ended_under_its_locks_changes_that_day(demo: Database) -> None:
    demo.run(assignments.rebuild_stale)
    with demo.transaction() as tx:
        accounts, product = accounts_service.known(tx), pools.product(tx, P)
        place, zone = int(accounts.ids[accounts.tree.row(HARBOUR)]), accounts_service.zone(tx)
        for category, at, is_past in (("new", tx.now, False), ("newer", tx.now - timedelta(days=1), True)):
            [known] = ask(tx.connection, usage.standing(product, place, [category], at))
            before = generations.numbers(tx, "past")
            usage.record_now(tx, zone, known, {category: 0}, at)
            assert (generations.numbers(tx, "past") != before) is is_past


@pytest.mark.parametrize(
    ("where", "why"),
    [
        (Where("TERN", category="x"), "no account"),
        (Where("OLDQUAY"), "one of person, folder and category"),
        (Where("OLDQUAY", person="lev.birch2/mail"), "has a slash"),
        (Where("OLDQUAY", folder="CHARTS/old"), "has a slash"),
        (Where("OLDQUAY", category="home/ada/reserved"), "No category is called"),
        (Where("OLDQUAY", category="x" * 201), "200 characters"),
        (Where(person="lev.birch2"), "no person"),
    ],
)
def test_a_key_reaches_its_branch_and_nothing_else(demo: Database, key: str, where: Where, why: str) -> None:
    with pytest.raises(Refused, match=why):
        demo.run(usecases.reserve, key, where, 1, 60)
    for wrong in ("", "AAAAA-AAAAA-AAAAA-AAAAA-AAAAA"):
        with pytest.raises(Refused, match="no such key"):
            demo.run(usecases.may_write, wrong, where, 1)


def test_over_http(demo: Database, key: str, app: TestClient) -> None:
    bearer = {"Authorization": f"Bearer {key}"}
    now = datetime.isoformat(demo.clock.now())
    asked = app.post(
        "/api/public/storage/may-write", json={"account": HARBOUR, "category": "a", "bytes": 5}, headers=bearer
    )
    assert asked.status_code == 200 and asked.json()["admitted"] is True
    for headers, size, where in (({}, {"bytes": 5}, "Authorization"), (bearer, {}, "bytes")):
        body = {"account": HARBOUR, "category": "a", **size}
        answer = app.post("/api/public/storage/write", json=body, headers=headers)
        assert (answer.status_code, answer.json()["where"]) == (422, where)
    reports = {"reports": [{"account": HARBOUR, "category": "a", "at": now, "bytes": 5 * GB}]}
    found = app.post("/api/public/storage/reports", json=reports, headers=bearer | {"Idempotency-Key": "one"})
    assert found.json() == {"recorded": 1, "unplaced": 0, "refused": []}
    held = app.post(
        "/api/public/storage/reserve",
        json={"account": HARBOUR, "category": "a", "bytes": 5},
        headers=bearer | {"Idempotency-Key": "two"},
    )
    cancel = {"token": held.json()["token"]}
    for expected in (204, 410):
        key_of = bearer | {"Idempotency-Key": f"cancel {expected}"}
        assert app.post("/api/public/storage/cancel", json=cancel, headers=key_of).status_code == expected
    with demo.transaction() as tx:
        assert accounts_service.known(tx).tree.codes


def test_bytes_that_move_are_admitted_where_they_make_more(demo: Database, key: str) -> None:
    """Within a branch that is full they may move: it stores what it stored. Not out of an account whose reserve stays
    held, which would make it more; nor is a figure told of what stops it above."""
    place, crew = (P, HARBOUR, "CHARTS"), "OLDQUAY-CREW"
    demo.run(usecases.write, key, Where(HARBOUR, folder="CHARTS"), 4 * GB)
    demo.run(folders.put, OLDQUAY, *place, FolderTerms("Charts", None, None, False))

    def reserve(tx: Transaction, account: str, grains: int) -> None:
        version = views.cell(tx, COMMAND_LINE, account, P).version
        terms, seen = Terms(reserve=grains), version.id if version else None
        change = AllocationChange(account=account, product=P, terms=terms, seen=seen, was=terms_of(version))
        apply_changes(tx, COMMAND_LINE, [change], "a test")

    demo.run(reserve, crew, 0)
    full = cap(demo, "OLDQUAY", 0)
    assert demo.run(folders.move, OLDQUAY, *place, crew) == 4000
    assert demo.run(folders.move, OLDQUAY, P, crew, "CHARTS", HARBOUR) == 4000
    assert load(demo, "OLDQUAY") == full

    demo.run(reserve, HARBOUR, load(demo, HARBOUR))
    for actor, to, why in (
        (OLDQUAY, crew, "4 GB would be added in Crew Office.*limited by Old Quay Ferries's cap"),
        (OLDQUAY, "OLDQUAY", "4 GB would be added in Old Quay Ferries.*cap"),
        (Actor("Ines", "", "GANNET"), crew, "limited by Old Quay Ferries's cap"),
    ):
        with pytest.raises(Refused, match=why):
            demo.run(folders.move, actor, *place, to)
    assert load(demo, "OLDQUAY") == full


def test_a_shared_folder_is_looked_after_moved_and_deleted_after_waiting(demo: Database, key: str) -> None:
    cap(demo, "OLDQUAY", 400_000)
    maps = Where(HARBOUR, folder="MAPS")
    demo.run(usecases.write, key, maps, 3 * GB)
    demo.run(usecases.write, key, Where(HARBOUR, folder="MAPS", part="rafe.ziegler"), GB)
    place = (P, HARBOUR, "MAPS")
    assert demo.run(folders.known, OLDQUAY, P, [(HARBOUR, "MAPS")]) == {}
    demo.run(folders.put, OLDQUAY, *place, FolderTerms("Sea maps", None, 5000, True))
    found = demo.run(folders.known, OLDQUAY, P, [(HARBOUR, "MAPS"), ("TERN", "MAPS")])[HARBOUR, "MAPS"]
    assert found.is_orphaned and found.terms.limit == 5000
    detail = demo.run(listing.detail, OLDQUAY, P, HARBOUR, "folders", "MAPS")
    assert detail.categories == [("folder/MAPS", 3000), ("folder/MAPS/rafe.ziegler", 1000)], "the largest first"
    with pytest.raises(Refused, match="Sea maps may store 5 GB, and would store 6 GB"):
        demo.run(usecases.reserve, key, maps, 2 * GB, 60)

    before = {account: load(demo, account) for account in (HARBOUR, "OLDQUAY-CREW")}
    cap(demo, "OLDQUAY-CREW", 3000)
    with pytest.raises(Refused, match="4 GB would be added"):
        demo.run(folders.move, OLDQUAY, *place, "OLDQUAY-CREW")
    cap(demo, "OLDQUAY-CREW", 9000)
    assert demo.run(folders.move, OLDQUAY, *place, "OLDQUAY-CREW") == 4000
    assert load(demo, HARBOUR) == before[HARBOUR] - 4000 and load(demo, "OLDQUAY-CREW") == before["OLDQUAY-CREW"] + 4000

    crew = (P, "OLDQUAY-CREW", "MAPS")
    at = demo.run(folders.set_state, OLDQUAY, *crew, "deleted")
    with pytest.raises(Refused, match="is archived"):
        demo.run(usecases.write, key, Where("OLDQUAY-CREW", folder="MAPS"), 1)
    demo.run(folders.set_state, OLDQUAY, *crew, "open")
    demo.run(usecases.write, key, Where("OLDQUAY-CREW", folder="MAPS"), 1)
    demo.run(folders.set_state, OLDQUAY, *crew, "deleted")
    do_job(demo, DeleteFolders())
    assert load(demo, "OLDQUAY-CREW") > before["OLDQUAY-CREW"], "not before its time"
    demo.clock.shift += at - demo.clock.now() + timedelta(minutes=1)
    demo.run(assignments.rebuild_stale)
    do_job(demo, DeleteFolders())
    rows = demo.run(listing.holders, OLDQUAY, P, "OLDQUAY-CREW", "folders", "all", "size", "", 0, 9).rows
    assert {each.name: each.size.now for each in rows}["MAPS"] == 0
    with pytest.raises(Refused, match="no account"):
        demo.run(folders.set_state, Actor("Tilde", "", "TERN"), *place, "deleted")
    with pytest.raises(Refused, match="nobody of this account"):
        demo.run(folders.put, OLDQUAY, *place, FolderTerms("Sea maps", "lev.birch2", None, False))


def test_what_is_held_for_an_upload_does_not_move_and_ends_where_it_is(demo: Database, key: str) -> None:
    cap(demo, "OLDQUAY", 400_000)
    crew, place = "OLDQUAY-CREW", (P, HARBOUR, "MAPS")
    [someone] = demo.run(listing.holders, OLDQUAY, P, HARBOUR, "people", "all", "size", "", 0, 1).rows
    demo.run(groups.put, OLDQUAY, GroupTerms(HARBOUR, "PILOTS", "Pilots", None, (someone.name,), 10))
    demo.run(usecases.write, key, Where(HARBOUR, folder="MAPS"), 3 * GB)
    demo.run(folders.put, OLDQUAY, *place, FolderTerms("Sea maps", None, None, False, "PILOTS"))
    before = {account: load(demo, account) for account in (HARBOUR, crew)}
    tokens = [demo.run(usecases.reserve, key, Where(HARBOUR, folder="MAPS"), GB, 600)[0] for _ in range(2)]
    assert demo.run(folders.move, OLDQUAY, *place, crew) == 3000
    assert (load(demo, HARBOUR), load(demo, crew)) == (before[HARBOUR] - 1000, before[crew] + 3000)
    moved = demo.run(folders.known, OLDQUAY, P, [(crew, "MAPS")])[crew, "MAPS"]
    assert moved.terms.group is None, "the group is not of that account"
    demo.run(folders.put, OLDQUAY, P, crew, "MAPS", moved.terms)
    demo.run(usecases.cancel, key, tokens[0])
    demo.run(usecases.commit, key, tokens[1], None)
    assert (load(demo, HARBOUR), load(demo, crew)) == (before[HARBOUR] - 2000, before[crew] + 3000)


def test_what_was_to_come_is_taken_in_before_more_is_written(demo: Database, key: str) -> None:
    """The intake has samples of instants still to come. Once they have, a write rounds what there is with them."""
    demo.clock.shift += timedelta(hours=2)
    for write in range(8):
        place = Where(HARBOUR, category="media")
        if write % 2:
            demo.run(usecases.report, key, [Report(place, demo.clock.now(), write * 130_000)])
        else:
            demo.run(usecases.write, key, place, 130_000)
        assert demo.run(checks.verify, COMMAND_LINE) == []
