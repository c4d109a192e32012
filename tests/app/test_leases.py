"""Sessions: leased while heartbeats come, one unit a person, told to save before they end, taken along, and lost."""

from __future__ import annotations

import threading
from datetime import timedelta

import pytest
import sqlalchemy as sa

from fair_ladle.app.assignments import service as assignment_service
from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.devices import usecases as devices
from fair_ladle.app.leases import jobs as leases_jobs
from fair_ladle.app.leases import usecases
from fair_ladle.app.people_admin import acting, listing
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools
from fair_ladle.jobs import EndLostSessions
from tests.conftest import do_job

ENGINEERING, TERN = Actor("Head", "", "OLDQUAY-ENGINEERING"), Actor("Tilde", "", "TERN")
PRODUCT = "CHARTROOM"


def room(database: Database) -> int:
    product = next(each for each in database.run(pools.products) if each.code == PRODUCT)
    return database.run(assignment_service.room, ENGINEERING, "OLDQUAY-ENGINEERING", product).real


@pytest.fixture
def ready(demo: Database) -> tuple[str, list[str]]:
    """A key, and people of the account, with room for two of their sessions: the others of the branch are over."""
    with demo.engine.connect() as connection:
        there = connection.execute(
            sa.text(
                "SELECT accounts.code, subject FROM assignments a JOIN accounts ON accounts.id = "
                "a.account_id JOIN products p ON p.id = a.product_id "
                "WHERE p.code = :p AND accounts.code LIKE 'OLDQUAY%' AND a.ends IS NULL"
            ),
            {"p": PRODUCT},
        ).all()
    demo.run(
        assignments.release, Actor("Maren", "", "OLDQUAY"), [Wanted(code, PRODUCT, subject) for code, subject in there]
    )
    key = demo.run(devices.make_key, ENGINEERING, "OLDQUAY-ENGINEERING", PRODUCT, "Drawing desk")[1]
    rows = demo.run(listing.listing, ENGINEERING, Asked(status="active")).rows
    assert len(rows) > room(demo) == 2
    return key, [row.person.username for row in rows]


def later(database: Database, **much: int) -> None:
    database.clock.set_to(database.clock.now() + timedelta(**much))


def test_a_session_holds_a_unit_as_long_as_heartbeats_come(demo: Database, ready: tuple[str, list[str]]) -> None:
    key, (ada, *_) = ready
    before = room(demo)
    token, product, told = demo.run(usecases.begin, key, ada, "desk-1")
    assert (product.code, told, room(demo)) == (PRODUCT, [], before - 1)
    for _ in range(5):
        later(demo, minutes=2)
        assert demo.run(usecases.beat, token)["state"] == "live" and demo.run(leases_jobs.end_lost) == 0
    later(demo, minutes=4)
    do_job(demo, EndLostSessions())
    assert room(demo) == before and demo.run(assignments.verify, COMMAND_LINE) == []
    with pytest.raises(Refused, match="has ended: no heartbeat came") as refused:
        demo.run(usecases.beat, token)
    assert refused.value.problem.status == 410


def test_who_signs_in_a_second_time_takes_nothing_more_and_the_first_session_is_told_to_save(
    demo: Database, ready: tuple[str, list[str]]
) -> None:
    key, (ada, *_) = ready
    before = room(demo)
    first = demo.run(usecases.begin, key, ada, "desk-1")[0]
    second, _, told = demo.run(usecases.begin, key, ada, "laptop")
    assert told == ["desk-1"] and room(demo) == before - 1
    said = demo.run(usecases.beat, first)
    assert (
        said["state"] == "ending"
        and "has signed in on laptop" in said["says"]
        and said["save_by"] - demo.clock.now() <= usecases.TO_SAVE
    )
    later(demo, seconds=121)
    demo.run(usecases.beat, second)
    do_job(demo, EndLostSessions())
    with pytest.raises(Refused, match="has signed in on laptop"):
        demo.run(usecases.beat, first)
    assert room(demo) == before - 1 and [each.row.machine for each in demo.run(usecases.sessions, ENGINEERING)[1]] == [
        "laptop"
    ]
    demo.run(usecases.end, second)
    assert room(demo) == before
    with pytest.raises(Refused, match="has ended: closed"):
        demo.run(usecases.end, second)


def test_a_session_whose_person_is_removed_ends(demo: Database, ready: tuple[str, list[str]]) -> None:
    key, (ada, *_) = ready
    token = demo.run(usecases.begin, key, ada, "desk-1")[0]
    demo.run(acting.act, ENGINEERING, "remove", Asked(usernames=(ada,)))
    do_job(demo, EndLostSessions())
    with pytest.raises(Refused, match="its unit was released"):
        demo.run(usecases.beat, token)
    assert demo.run(assignments.verify, COMMAND_LINE) == []


def test_a_session_taken_along_needs_no_heartbeat_and_comes_back(demo: Database, ready: tuple[str, list[str]]) -> None:
    key, (ada, *_) = ready
    before = room(demo)
    token = demo.run(usecases.begin, key, ada, "laptop")[0]
    with pytest.raises(Refused, match="Between 1 and 30"):
        demo.run(usecases.go_offline, token, 31)
    demo.run(usecases.go_offline, token, 30)
    later(demo, days=29)
    do_job(demo, EndLostSessions())
    assert room(demo) == before - 1 and demo.run(usecases.beat, token)["state"] == "live", "back in time"
    demo.run(usecases.go_offline, token, 1)
    later(demo, days=1, minutes=1)
    do_job(demo, EndLostSessions())
    assert room(demo) == before


def test_an_admin_tells_a_session_to_end_within_the_branch(demo: Database, ready: tuple[str, list[str]]) -> None:
    key, (ada, *_) = ready
    token = demo.run(usecases.begin, key, ada, "desk-1")[0]
    (session,) = demo.run(usecases.sessions, ENGINEERING)[1]
    assert demo.run(usecases.sessions, TERN) == (0, [])
    with pytest.raises(Refused, match="no session"):
        demo.run(usecases.end_sessions, TERN, [session.row.id])
    assert demo.run(usecases.end_sessions, ENGINEERING, [session.row.id]) == 1
    assert "Head has ended it" in demo.run(usecases.beat, token)["says"]


def test_never_one_too_many_however_many_begin_at_once(demo: Database, ready: tuple[str, list[str]]) -> None:
    key, people = ready
    before, outcomes = room(demo), []

    def begins(username: str) -> None:
        try:
            demo.run(usecases.begin, key, username, f"{username}'s desk")
            outcomes.append("begun")
        except Refused as refused:
            outcomes.append(refused.problem.kind)

    threads = [threading.Thread(target=begins, args=(each,)) for each in people[:12] * 2]
    for each in threads:
        each.start()
    for each in threads:
        each.join()
    assert (
        len({each.row.username for each in demo.run(usecases.sessions, ENGINEERING)[1]}) == before and room(demo) == 0
    )
    assert set(outcomes) == {"begun", "at-limit"} and demo.run(assignments.verify, COMMAND_LINE) == []


def test_nobody_begins_who_is_not_there(demo: Database, ready: tuple[str, list[str]]) -> None:
    key, (ada, *_) = ready
    outsider = demo.run(listing.listing, TERN, Asked()).rows[0].person.username
    for username in ("nobody", outsider):
        with pytest.raises(Refused, match="no person"):
            demo.run(usecases.begin, key, username, "desk")
    demo.run(acting.act, ENGINEERING, "suspend", Asked(usernames=(ada,)))
    with pytest.raises(Refused, match="is suspended"):
        demo.run(usecases.begin, key, ada, "desk")
    with pytest.raises(Refused, match="is not known"):
        demo.run(usecases.beat, "guessed")
