"""Devices: activated by a key within the limits, reporting, revoked in two steps, moved, and working without a
network."""

from __future__ import annotations

import json
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest

from fair_ladle.app.account_admin import usecases as account_admin
from fair_ladle.app.assignments import service as assignment_service
from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.devices import acting, offline, usecases
from fair_ladle.app.people_admin import acting as people_acting
from fair_ladle.app.people_admin import listing
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.connectors.reporting_client import DeviceClient, NotDone

HARBOUR, TERN = Actor("Maren", "", "OLDQUAY-HARBOUR"), Actor("Tilde", "", "TERN")
PLACE = ("OLDQUAY-HARBOUR", "WATCHGLASS")
WHEELHOUSE = [("WATCHGLASS", "wheelhouse-1")]


def room(database: Database) -> int:
    product = next(each for each in database.run(usecases.pools_service.products) if each.code == PLACE[1])
    return database.run(assignment_service.room, HARBOUR, PLACE[0], product).real


def key(database: Database, **more: Any) -> str:
    return database.run(usecases.make_key, HARBOUR, *PLACE, "Pilots", **more)[1]


def test_a_device_takes_a_unit_reports_and_gives_it_back(demo: Database) -> None:
    secret, before = key(demo), room(demo)
    assert before > 0
    found, token = demo.run(usecases.activate, secret.lower(), "wheelhouse-1", "Wheelhouse")
    assert found.account == PLACE[0] and room(demo) == before - 1
    assert demo.run(usecases.activate, secret, "wheelhouse-1")[1] != token and room(demo) == before - 1, (
        "the same machine once more takes nothing more"
    )
    with pytest.raises(Refused, match="not known"):
        demo.run(usecases.report, token)
    token = demo.run(usecases.activate, secret, "wheelhouse-1")[1]
    assert demo.run(usecases.report, token) == {"state": "active", "report_again": usecases.REPORTS_EVERY}
    (device,) = demo.run(usecases.listing, HARBOUR, "wheelhouse")[1]
    assert (device.machine, device.reports, device.state) == ("wheelhouse-1", True, "active")
    assert demo.run(usecases.listing, TERN, "wheelhouse")[0] == 0
    demo.run(usecases.give_back, token)
    assert room(demo) == before and demo.run(assignments.verify, COMMAND_LINE) == []


def test_a_revoked_device_frees_its_unit_at_once_and_is_told_when_it_reports(demo: Database) -> None:
    secret, before = key(demo), room(demo)
    token = demo.run(usecases.activate, secret, "wheelhouse-1")[1]
    assert demo.run(acting.revoke, HARBOUR, WHEELHOUSE) == 1 and room(demo) == before
    with pytest.raises(Refused, match="was revoked"):
        demo.run(usecases.activate, secret, "wheelhouse-1")
    assert demo.run(usecases.report, token)["state"] == "revoked"
    assert [each.state for each in demo.run(usecases.listing, HARBOUR, revoked=True)[1]] == ["revoked"]
    with pytest.raises(Refused, match="is not waiting"):
        demo.run(acting.confirm_revoked, HARBOUR, WHEELHOUSE)
    demo.run(acting.let_back, HARBOUR, WHEELHOUSE)
    demo.run(usecases.activate, secret, "wheelhouse-1")
    assert room(demo) == before - 1
    demo.run(assignments.release, HARBOUR, [Wanted(*PLACE, "wheelhouse-1")])
    assert demo.run(usecases.report, demo.run(usecases.activate, secret, "wheelhouse-1")[1])["state"] == "active"


def test_a_device_that_only_stands_in_an_intake_is_revoked_and_given_to_people_too(demo: Database) -> None:
    device = demo.run(usecases.listing, HARBOUR)[1][0]
    assert not device.reports and device.name is None
    person = demo.run(listing.listing, HARBOUR, Asked(status="active")).rows[0].person
    demo.run(acting.give_to, HARBOUR, [(PLACE[1], device.machine)], person.username)
    (given,) = demo.run(usecases.listing, HARBOUR, username=person.username)[1]
    assert (given.machine, given.person) == (device.machine, person.display_name)
    demo.run(people_acting.act, HARBOUR, "remove", Asked(usernames=(person.username,)))
    assert demo.run(usecases.listing, HARBOUR, device.machine)[1][0].username is None, (
        "it stays with the account, as nobody's"
    )
    with pytest.raises(Refused, match="is not a person of"):
        demo.run(acting.give_to, HARBOUR, [(PLACE[1], device.machine)], "nobody")
    assert demo.run(acting.revoke, HARBOUR, [(PLACE[1], device.machine)]) == 0, "nothing on it would report"
    with pytest.raises(Refused, match="no device"):
        demo.run(acting.revoke, TERN, [(PLACE[1], device.machine)])


@pytest.mark.parametrize(
    ("sort", "key"),
    [
        ("machine", lambda each: each.machine),
        ("product", lambda each: each.product.name),
        ("account", lambda each: each.account_name.split(" · ")[0]),
        ("since", lambda each: each.since),
    ],
)
def test_the_list_is_put_in_order_and_narrowed_within_the_branch(
    shared_demo: Database, sort: usecases.Sort, key: Callable[[usecases.Device], Any]
) -> None:
    total, rows = shared_demo.run(usecases.listing, COMMAND_LINE, sort=sort, limit=10_000)
    assert [key(each) for each in rows] == sorted(key(each) for each in rows) and len(rows) == total
    assert [
        key(each) for each in shared_demo.run(usecases.listing, COMMAND_LINE, sort=sort, down=True, limit=10_000)[1]
    ] == sorted((key(each) for each in rows), reverse=True)
    here = {
        each.machine
        for each in shared_demo.run(usecases.listing, COMMAND_LINE, account="OLDQUAY", sort=sort, limit=10_000)[1]
    }
    assert here and here == {each.machine for each in rows if each.account.startswith("OLDQUAY")}
    with pytest.raises(Refused, match="no account"):
        shared_demo.run(usecases.listing, TERN, account="OLDQUAY", sort=sort)


def test_devices_chosen_together_are_all_revoked_or_none(demo: Database) -> None:
    secret, before = key(demo), room(demo)
    demo.run(usecases.activate, secret, "wheelhouse-1")
    recorded = demo.run(usecases.listing, HARBOUR)[1][0].machine
    both = [*WHEELHOUSE, (PLACE[1], recorded)]
    with pytest.raises(Refused, match="no device"):
        demo.run(acting.revoke, HARBOUR, [*both, (PLACE[1], "elsewhere")])
    assert room(demo) == before - 1 and demo.run(usecases.listing, HARBOUR, revoked=True)[0] == 0
    assert demo.run(acting.revoke, HARBOUR, [*both, *both]) == 1, "only what reports is told"
    assert room(demo) == before + 1
    assert {each.machine: each.state for each in demo.run(usecases.listing, HARBOUR, revoked=True)[1]} == {
        "wheelhouse-1": "revoking",
        recorded: "revoked",
    }
    with pytest.raises(Refused, match="is not waiting"):
        demo.run(acting.confirm_revoked, HARBOUR, both)
    demo.run(acting.let_back, HARBOUR, both)
    assert (
        demo.run(usecases.listing, HARBOUR, revoked=True)[0] == 0 and demo.run(assignments.verify, COMMAND_LINE) == []
    )


@pytest.mark.parametrize(
    ("change", "why"),
    [
        (
            lambda db, secret: db.run(usecases.withdraw_key, HARBOUR, db.run(usecases.keys, HARBOUR)[0].row.id),
            "was withdrawn",
        ),
        (lambda db, secret: db.clock.set_to(db.clock.now() + timedelta(days=9)), "ended on"),
        (lambda db, secret: db.run(usecases.activate, secret, "first"), "is for 1 device at once"),
    ],
)
def test_a_key_that_is_over_lets_nothing_begin(demo: Database, change: Any, why: str) -> None:
    secret = key(demo, most=1, last_day=(demo.clock.now() + timedelta(days=3)).date())
    change(demo, secret)
    with pytest.raises(Refused, match=why):
        demo.run(usecases.activate, secret, "second")


def test_keys_are_refused_where_they_make_no_sense(demo: Database) -> None:
    for account, product, why in (
        ("TERN", "WATCHGLASS", "no account"),
        ("OLDQUAY-HARBOUR", "LANTERN-MAIL", "keys are for devices"),
        ("OLDQUAY-HARBOUR", "NOTHING", "no product"),
    ):
        with pytest.raises(Refused, match=why):
            demo.run(usecases.make_key, HARBOUR, account, product, "Pilots")
    with pytest.raises(Refused, match="There is no such key"):
        demo.run(usecases.activate, "AAAAA", "machine")
    secret = key(demo)
    for n in range(room(demo)):
        demo.run(usecases.activate, secret, f"m{n}")
    with pytest.raises(Refused, match="asked for") as refused:
        demo.run(usecases.activate, secret, "one too many")
    assert "cap of" in refused.value.problem.more["ladder"]["sentence"]


def test_without_a_network_a_signed_answer_lets_one_machine_work_for_thirty_days_at_most(
    demo: Database, tmp_path: Path
) -> None:
    secret, before, client, other = (
        key(demo),
        room(demo),
        DeviceClient(tmp_path / "one"),
        DeviceClient(tmp_path / "other"),
    )
    request = client.request_file(secret, "island-1", "Island")
    assert secret not in json.dumps(request)
    with pytest.raises(Refused, match="Between 1 and 30"):
        demo.run(offline.answer, HARBOUR, request, 31)
    with pytest.raises(Refused, match="no request file"):
        demo.run(offline.answer, HARBOUR, {"kind": "something"}, 30)
    with pytest.raises(Refused, match="no key"):
        demo.run(offline.answer, TERN, request, 30)
    with pytest.raises(Refused, match="may work offline for 21 days at most"):
        demo.run(offline.answer, HARBOUR, request, 30)
    demo.run(account_admin.set_setting, HARBOUR, "OLDQUAY-HARBOUR", "offline_lease", 30)
    signed, public = demo.run(offline.answer, HARBOUR, request, None), demo.run(offline.public_key)
    assert room(demo) == before - 1
    other.request_file(secret, "island-2")
    with pytest.raises(NotDone, match="for another request: of island-1, here is island-2"):
        other.take_answer(signed, public)
    with pytest.raises(NotDone, match="not signed by the server"):
        client.take_answer({**signed, "answer": {**signed["answer"], "until": "2099-01-01T00:00:00+00:00"}}, public)
    with pytest.raises(NotDone, match="not signed by the server"):
        client.take_answer(signed, "AAAA" * 11 + "=")
    until = client.take_answer(signed, public)
    assert until - demo.clock.now() <= timedelta(days=30) and "without a network until" in client.works(
        demo.clock.now()
    )
    assert "is over" in client.works(until)
    with pytest.raises(NotDone, match="for another request"):
        client.take_answer(signed, public)


def test_whoever_asks_first_and_however_many_there_is_one_key_to_sign_with(demo: Database) -> None:
    with ThreadPoolExecutor(6) as pool:
        assert len(set(pool.map(lambda _: demo.run(offline.public_key), range(12)))) == 1
