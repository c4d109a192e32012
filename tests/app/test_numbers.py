"""Numbered things: brought in by ranges, reserved while choosing, assigned with what they need, released in bulk."""

from __future__ import annotations

import re
import threading
from datetime import timedelta

import pytest

from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.numbers import usecases
from fair_ladle.app.numbers.usecases import Use
from fair_ladle.app.people_admin import listing
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused

GANNET, OLDQUAY, TERN = Actor("Ines", "", "GANNET", 1), Actor("Maren", "", "OLDQUAY", 2), Actor("Tilde", "", "TERN", 3)
P, PLACE = "NUMBERS", "Pier 4, Harbour Road"


def numbers(database: Database, state: usecases.State, who: Actor = GANNET, find: str = "+3515") -> list[str]:
    return [each.number for each in database.run(usecases.listing, who, P, state, find, limit=500)[1]]


@pytest.fixture
def stock(demo: Database) -> Database:
    assert demo.run(usecases.load, GANNET, P, "GANNET", "+351 500 000 001 - +351 500 000 020") == 20
    return demo


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("+351500000001\n\n KEY-7 ", ["+351500000001", "KEY-7"]),
        ("A08 - A11", ["A08", "A09", "A10", "A11"]),
        ("+351 500 000 008..+351 500 000 009", ["+351500000008", "+351500000009"]),
    ],
)
def test_numbers_are_written_one_a_line_or_as_ranges(text: str, found: list[str]) -> None:
    assert list(usecases.expanded(text)) == found


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("A9 - A10", "is no range"),
        ("A1 - B9", "is no range"),
        ("A9 - A1", "is no range"),
        ("A1 - A2 - A3", "is no range"),
        ("<script>", "is no number"),
        ("A00000 - A99999", "10000 at once"),
        ("", "Write numbers"),
        ("A1\nA1", "is listed twice"),
    ],
)
def test_what_is_no_number_is_refused_and_nothing_comes_in(shared_demo: Database, text: str, why: str) -> None:
    with pytest.raises(Refused, match=why):
        shared_demo.run(usecases.load, GANNET, P, "GANNET", text)
    assert numbers(shared_demo, "free", find="") == []


def test_bringing_in_twice_is_refused_whole_and_only_the_pools_owner_brings_in(stock: Database) -> None:
    with pytest.raises(Refused, match=r"\+351500000020 is there already"):
        stock.run(usecases.load, GANNET, P, "GANNET", "+351500000020 - +351500000029")
    assert len(numbers(stock, "free")) == 20
    with pytest.raises(Refused, match="has no pool of Direct numbers"):
        stock.run(usecases.load, OLDQUAY, P, "OLDQUAY", "+351500000030")
    with pytest.raises(Refused, match="has no numbers"):
        stock.run(usecases.load, GANNET, "LANTERN-MAIL", "GANNET", "+351500000030")


def test_a_reserved_number_is_ones_own_for_a_quarter_of_an_hour(stock: Database) -> None:
    mine, until = stock.run(usecases.reserve, OLDQUAY, P, "OLDQUAY", 2)
    assert mine == ["+351500000001", "+351500000002"] and until - stock.clock.now() <= timedelta(minutes=15)
    with pytest.raises(Refused, match="reserved by someone else"):
        stock.run(usecases.reserve, TERN, P, "TERN", 0, mine[:1])
    with pytest.raises(Refused, match="reserved by someone else"):
        stock.run(usecases.assign, TERN, P, "TERN", [Use(mine[0], None, PLACE)])
    assert stock.run(usecases.reserve, TERN, P, "TERN", 1)[0] == ["+351500000003"]
    assert [each.mine for each in stock.run(usecases.listing, OLDQUAY, P, "reserved")[1]] == [True, True, False]
    stock.run(usecases.cancel_reservation, TERN, P, mine)
    assert len(numbers(stock, "reserved")) == 3, "nobody lets go of what another one keeps"
    stock.clock.set_to(stock.clock.now() + timedelta(minutes=16))
    assert numbers(stock, "reserved") == [] and stock.run(usecases.reserve, TERN, P, "TERN", 0, mine)[0] == mine


def test_two_who_choose_at_once_never_get_the_same_number(stock: Database) -> None:
    got: list[str] = []
    threads = [
        threading.Thread(
            target=lambda n=n: got.extend(
                stock.run(usecases.reserve, Actor("x", "", "GANNET", 10 + n), P, "GANNET", 2)[0]
            )
        )
        for n in range(8)
    ]  # type: ignore[misc]
    for each in threads:
        each.start()
    for each in threads:
        each.join()
    assert len(got) == len(set(got)) == 16


def test_a_number_is_assigned_only_with_its_address_and_within_the_limits(stock: Database) -> None:
    person = stock.run(listing.listing, OLDQUAY, Asked(status="active")).rows[0].person.username
    one, two = stock.run(usecases.reserve, OLDQUAY, P, "OLDQUAY", 2)[0]
    with pytest.raises(Refused, match=r"\+351500000002 needs the address"):
        stock.run(usecases.assign, OLDQUAY, P, "OLDQUAY", [Use(one, person, PLACE), Use(two, person)])
    outsider = stock.run(listing.listing, TERN, Asked(status="active")).rows[0].person.username
    with pytest.raises(Refused, match="is not an active person of"):
        stock.run(usecases.assign, OLDQUAY, P, "OLDQUAY", [Use(one, outsider, PLACE)])
    assert stock.run(usecases.assign, OLDQUAY, P, "OLDQUAY", [Use(one, person, PLACE)]) == 1
    (item,) = stock.run(usecases.listing, OLDQUAY, P, "assigned", one)[1]
    assert (item.username, item.address, item.account, item.recorded) == (person, PLACE, "OLDQUAY", False)
    assert numbers(stock, "assigned", TERN, one) == [], "what others use is not told"
    with pytest.raises(Refused, match="asked for"):
        stock.run(
            usecases.assign, OLDQUAY, P, "OLDQUAY", [Use(f"+3515000000{n:02}", None, PLACE) for n in range(3, 13)]
        )
    with pytest.raises(Refused, match="is in use already"):
        stock.run(usecases.assign, OLDQUAY, P, "OLDQUAY", [Use(one, None, PLACE)])
    with pytest.raises(Refused, match="no number"):
        stock.run(usecases.reserve, TERN, P, "TERN", 0, [one])
    assert stock.run(assignments.verify, COMMAND_LINE) == []


def test_numbers_are_released_and_withdrawn_in_bulk_all_or_none(stock: Database) -> None:
    there = [each.number for each in stock.run(usecases.listing, OLDQUAY, P, "assigned")[1]]
    assert len(there) > 1
    with pytest.raises(Refused, match="no number"):
        stock.run(usecases.release, OLDQUAY, P, [*there, "+351500000001"])
    with pytest.raises(Refused, match=f"no number {re.escape(repr(there[0]))}") as refused:
        stock.run(usecases.release, TERN, P, there)
    assert "OLDQUAY" not in str(refused.value.problem), "whose it is, is not told"
    assert (
        stock.run(usecases.release, OLDQUAY, P, there) == len(there) and numbers(stock, "assigned", OLDQUAY, "") == []
    )
    free = numbers(stock, "free")
    with pytest.raises(Refused, match="no number"):
        stock.run(usecases.withdraw, OLDQUAY, P, free[:1])
    assert stock.run(usecases.withdraw, GANNET, P, free[:5]) == 5 and numbers(stock, "free") == free[5:]
    assert stock.run(usecases.load, GANNET, P, "GANNET", free[0]) == 1, "and comes in again"
    assert stock.run(assignments.verify, COMMAND_LINE) == []
