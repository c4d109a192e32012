"""Where the bytes sit: the lists and sums are what the samples come to, and a limit's preview what it then does."""

from __future__ import annotations

import random
from collections.abc import Callable, Sequence
from dataclasses import fields, replace
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from typing import Any

import pytest
import sqlalchemy as sa
from hypothesis import given, settings
from hypothesis import strategies as st

from fair_ladle.app.account_admin import usecases as account_admin
from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import views
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.assignments import storing
from fair_ladle.app.assignments import usecases as checks
from fair_ladle.app.drafts.change_types import AllocationChange, Terms
from fair_ladle.app.drafts.preview import apply_changes
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.people_admin import acting, groups
from fair_ladle.app.people_admin import listing as people_listing
from fair_ladle.app.people_admin.groups import GroupTerms
from fair_ladle.app.people_admin.leaving import Leaving
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.people_admin.seat_acts import ActOptions
from fair_ladle.app.personal_storage import usecases as personal_storage
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools
from fair_ladle.app.storage import folders, forecasts, left_behind, limits, listing, on_a_day, spread_store, store
from fair_ladle.app.storage.rows import BandStates
from fair_ladle.app.today import usecases as today
from fair_ladle.app.usage import service as usage
from fair_ladle.app.usage.tables import storage_samples, stored
from fair_ladle.app.usage.whose import whose
from fair_ladle.core.filling import FURTHEST_DAYS, filling
from fair_ladle.jobs import AgeStored, DeleteLeftBehind, ForecastStorage, TellStorageLimits
from tests.conftest import ODD_AT, do_job

P = "DEEPSHELF"
OLDQUAY, CREW = Actor("Maren", "", "OLDQUAY"), Actor("Head", "", "OLDQUAY-CREW")


def every(database: Database, who: Actor, account: str, what: str = "people", show: Any = "all") -> list[listing.Row]:
    return list(database.run(listing.holders, who, P, account, what, show, "size", "", 0, 500).rows)


def states_of(band: Any) -> list[int]:
    return [int(getattr(band, each.name)) for each in fields(BandStates)]


def newest(tx: Transaction, account: str, back: int = 0) -> dict[str, int]:
    """Bytes by category of an account and all below it, now or at the end of the day so many days ago: row by row."""
    accounts = accounts_service.known(tx)
    ids = set(accounts.ids[accounts.tree.branch(accounts.tree.row(account))].tolist())
    product = pools.product(tx, P)
    until = tx.now
    if back:
        day = accounts_service.today(tx) - timedelta(days=back - 1)
        until = accounts_service.start_of(tx, day) - timedelta(microseconds=1)
    found: dict[tuple[int, str], tuple[Any, int]] = {}
    for row in tx.connection.execute(sa.select(storage_samples).where(storage_samples.c.product_id == product.id)):
        key, at = (row.account_id, row.category), row.at.replace(tzinfo=until.tzinfo)
        if row.account_id in ids and at <= until and at >= found.get(key, (at, 0))[0]:
            found[key] = at, row.bytes
    sums: dict[str, int] = {}
    for (_, category), (_, size) in found.items():
        sums[category] = sums.get(category, 0) + size
    return sums


def test_sums_and_lists_are_what_the_samples_come_to(shared_demo: Database) -> None:
    total = shared_demo.run(listing.total, COMMAND_LINE, P, "OLDQUAY")
    people, folders = every(shared_demo, OLDQUAY, "OLDQUAY"), every(shared_demo, OLDQUAY, "OLDQUAY", "folders")
    with shared_demo.transaction() as tx:
        sums = {back: newest(tx, "OLDQUAY", back) for back in (0, 7, 30, 90)}
    whole = (total.size.now, total.size.week_ago, total.size.month_ago, total.size.quarter_ago)
    for found, back in zip(whole, sums, strict=True):
        assert abs(found * 10**6 - sum(sums[back].values())) <= 500_000, back
    assert {each.name for each in folders} == {"CHARTS"}
    homes = {category.removeprefix("home/"): size for category, size in sums[0].items() if category.startswith("home/")}
    assert {each.name for each in people} == homes.keys()
    for name, size in homes.items():
        mine = [each.size.now for each in people if each.name == name]
        assert abs(sum(mine) * 10**6 - size) <= 500_000 * len(mine), name
    parts = [total.personal, total.shared, total.left_behind, total.other]
    assert abs(sum(each.now for each in parts) - total.size.now) <= len(parts)
    left = every(shared_demo, OLDQUAY, "OLDQUAY", show="nobody")
    assert [each.here for each in left] == [False] and left[0].title == left[0].name
    assert total.left_behind.now == left[0].size.now

    below = shared_demo.run(listing.children, OLDQUAY, P, "OLDQUAY", "all", "size", 0, 100).rows
    assert abs(sum(each.size.now for each in below) - total.size.now) <= len(below)
    assert [each.size.now for each in below] == sorted((each.size.now for each in below), reverse=True)
    assert shared_demo.run(checks.verify, COMMAND_LINE) == []


def test_accounts_are_found_by_how_much_of_their_cap_is_stored(demo: Database) -> None:
    def listed(show: Any, order: Any) -> list[listing.Row]:
        return demo.run(listing.children, COMMAND_LINE, P, "GANNET", show, order, 0, 100).rows

    every = listed("all", "size")
    for place, (each, percent) in enumerate(
        zip([row for row in every if row.name and row.size.now > 100], (85, 95, 120), strict=False)
    ):
        change = AllocationChange(
            account=each.account,
            product=P,
            terms=Terms(cap=each.size.now * 100 // percent, at_cap="grace", grace_days=5),
            seen=None
            if (version := demo.run(views.cell, COMMAND_LINE, each.account, P).version) is None
            else version.id,
            was=terms_of(version),
        )
        demo.run(apply_changes, COMMAND_LINE, [change], f"a test {place}")
    every = listed("all", "share")
    share = {row.account: row.size.now / row.limit for row in every if row.limit and row.name}
    assert (
        {row.account for row in listed("over", "size")} == {name for name, found in share.items() if found > 1} != set()
    )
    near = {name for name, found in share.items() if 0.9 <= found <= 1}
    assert {row.account for row in listed("near", "share")} == near != set()
    shares = [share.get(row.account, 0) if row.name else 0 for row in every]
    assert shares == sorted(shares, reverse=True)
    growing = {
        row.account
        for row in every
        if (grown := row.size.now - row.size.month_ago) > 1000 and grown * 5 > row.size.month_ago
    }
    assert {row.account for row in listed("growing", "month")} == growing


@pytest.mark.parametrize("order", ["week", "month", "quarter"])
def test_who_grew_most_is_found_among_the_largest(
    shared_demo: Database, monkeypatch: pytest.MonkeyPatch, order: Any
) -> None:
    def listed(offset: int, limit: int) -> list[tuple[str, str, int]]:
        asked = (COMMAND_LINE, P, "GANNET", "people", "all", order, "", offset, limit)
        rows = shared_demo.run(listing.holders, *asked).rows
        return [(each.account, each.name, each.size.now - getattr(each.size, f"{order}_ago")) for each in rows]

    monkeypatch.setattr(store, "LOOKED_AT", 0)
    every_one = listed(0, 500)
    assert [grown for *_, grown in every_one] == sorted((grown for *_, grown in every_one), reverse=True)
    for most in (5, 12, 400):
        monkeypatch.setattr(store, "LOOKED_AT", most)
        assert [listed(0, 4), listed(4, 8), listed(8, 500)] == [every_one[:4], every_one[4:12], every_one[8:508]]


@pytest.mark.parametrize("account", ["GANNET", "BRAMBLE", "OLDQUAY", "OLDQUAY-TICKET"])
@pytest.mark.parametrize(("order", "column"), [("size", "bytes"), ("week", "week_ago"), ("quarter", "quarter_ago")])
def test_branches_are_added_up_as_the_database_adds_them(
    shared_demo: Database, account: str, order: Any, column: str
) -> None:
    with shared_demo.transaction() as tx:
        accounts = accounts_service.known(tx)
        path, product = accounts.facts[accounts.tree.row(account)].path, listing.product_of(tx, COMMAND_LINE, P)
        count, wanted = store.children_by_cap(tx.connection, product.id, path, "all", column, 500, 0)
    found = shared_demo.run(listing.children, COMMAND_LINE, P, account, "all", order, 0, 500)
    assert found.total == count == len(wanted)
    assert sorted(map(repr, (each.size for each in found.rows))) == sorted(
        repr(listing.Size.of(each)) for each in wanted
    )
    by = [each.size.now - (0 if order == "size" else getattr(each.size, column)) for each in found.rows]
    assert all(one >= other - 1 for one, other in pairwise(by)), "the largest first, to a rounding"


@pytest.mark.parametrize("back", [1, 7, 30, 45])
def test_a_day_that_is_over_is_what_its_samples_come_to(shared_demo: Database, back: int) -> None:
    with shared_demo.transaction() as tx:
        day = accounts_service.today(tx) - timedelta(days=back)
        sums, before = newest(tx, "OLDQUAY", back), newest(tx, "OLDQUAY", back + 7)
    total = shared_demo.run(on_a_day.total, OLDQUAY, P, "OLDQUAY", day)
    assert abs(total.size.now * 10**6 - sum(sums.values())) <= 500_000
    assert abs(total.size.week_ago * 10**6 - sum(before.values())) <= 500_000
    parts = [total.personal, total.shared, total.left_behind, total.other]
    assert abs(sum(each.now for each in parts) - total.size.now) <= len(parts)
    people = shared_demo.run(on_a_day.holders, OLDQUAY, P, "OLDQUAY", "people", day, "size", "").rows
    for each in people:
        homes = [size for category, size in sums.items() if category.split("/")[:2] == ["home", each.name]]
        mine = [row.size.now for row in people if row.name == each.name]
        assert abs(sum(mine) * 10**6 - sum(homes)) <= 500_000 * len(mine)
    assert [row.size.now for row in people] == sorted((row.size.now for row in people), reverse=True)
    below = shared_demo.run(on_a_day.children, OLDQUAY, P, "OLDQUAY", day, "week").rows
    assert abs(sum(row.size.now for row in below) - total.size.now) <= len(below)
    grown = [row.size.now - row.size.week_ago for row in below]
    assert grown == sorted(grown, reverse=True)
    found = shared_demo.run(on_a_day.holders, OLDQUAY, P, "OLDQUAY", "people", day, "size", "crew", 1, 2)
    assert len(found.rows) == min(2, found.total - 1) and {row.account_name for row in found.rows} == {"Crew Office"}


def test_a_day_that_is_over_follows_what_is_reported_late(demo: Database) -> None:
    with demo.transaction() as tx:
        product, day = pools.product(tx, P), accounts_service.today(tx) - timedelta(days=3)
        account_id, at = accounts_service.ids_by_code(tx)["OLDQUAY-CREW"], accounts_service.start_of(tx, day)
    before = demo.snapshot(on_a_day.total, OLDQUAY, P, "OLDQUAY", day)
    late = {"account_id": account_id, "category": "late", "at": at + timedelta(hours=9), "bytes": 5 * 10**9}
    demo.run(storing.report_sizes, product, [late])
    after = demo.snapshot(on_a_day.total, OLDQUAY, P, "OLDQUAY", day)
    assert (after.size.now - before.size.now, after.size.week_ago) == (5000, before.size.week_ago)


def test_a_day_is_refused_where_it_cannot_be_read(shared_demo: Database, monkeypatch: pytest.MonkeyPatch) -> None:
    with shared_demo.transaction() as tx:
        today = accounts_service.today(tx)
    for who, account, day, wrong in (
        (OLDQUAY, "OLDQUAY", today, "before today"),
        (CREW, "OLDQUAY", today - timedelta(days=1), "no account"),
    ):
        with pytest.raises(Refused, match=wrong):
            shared_demo.run(on_a_day.total, who, P, account, day)
    monkeypatch.setattr(on_a_day, "MOST_HELD", 10)
    with pytest.raises(Refused, match="Choose an account below"):
        shared_demo.run(on_a_day.children, OLDQUAY, P, "OLDQUAY", today - timedelta(days=1), "size")


def test_nobody_sees_beside_or_above_their_branch(shared_demo: Database) -> None:
    assert {each.account for each in every(shared_demo, CREW, "OLDQUAY-CREW")} == {"OLDQUAY-CREW"}
    assert shared_demo.run(listing.total, CREW, P, "OLDQUAY-CREW").parent is None
    for what in (listing.total, limits.spread):
        with pytest.raises(Refused, match="no account"):
            shared_demo.run(what, CREW, P, "OLDQUAY")
    with pytest.raises(Refused, match="no account"):
        every(shared_demo, CREW, "TERN-REPAIRS")
    with pytest.raises(Refused, match="no account"):
        shared_demo.run(listing.detail, CREW, P, "TERN-REPAIRS", "people", "lev.birch2")


def test_what_fills_up_is_told_of_the_own_branch_with_the_day_that_the_screen_says(demo: Database) -> None:
    do_job(demo, AgeStored())
    do_job(demo, ForecastStorage())
    accounts = demo.run(accounts_service.known)

    def told(who: Actor) -> dict[str, forecasts.Full]:
        row = accounts_service.top_row(accounts, who)
        found = demo.run(forecasts.soon, accounts, row, forecasts.FURTHEST, 500)
        products = {each.id: each.code for each in demo.run(pools.products)}
        assert [each.filling.day for each in found] == sorted(each.filling.day for each in found if each.filling.day)
        return {
            accounts.tree.codes[accounts.row_of_id[each.account_id]]: each
            for each in found
            if products[each.product_id] == P
        }

    every, until = told(COMMAND_LINE), demo.run(accounts_service.today) + forecasts.FURTHEST
    for code in accounts.tree.codes:
        total = demo.run(listing.total, COMMAND_LINE, P, code)
        grows = total.full is not None and total.full.day is not None and total.full.day <= until
        if total.cap is not None and grows and total.size.now < total.cap:
            assert (every[code].filling, every[code].most) == (total.full, total.cap), code
        else:
            assert code not in every
    assert len(every) > 3
    below = {accounts.tree.codes[row] for row in accounts.tree.branch(accounts.tree.row("OLDQUAY"))}
    assert told(OLDQUAY).keys() == every.keys() & below and told(CREW).keys() <= {"OLDQUAY-CREW"}
    seen = {each.account for each in demo.run(today.today, OLDQUAY).filling}
    assert seen <= below and all(each.day <= until for each in demo.run(today.today, COMMAND_LINE).filling)

    some = next(iter(every))
    report_more = {"category": "files", "at": demo.clock.now(), "bytes": (every[some].most + 1) * 10**6}
    product = demo.run(lambda tx: pools.product(tx, P))
    account_id = every[some].account_id
    demo.run(storing.report_sizes, product, [report_more | {"account_id": account_id}])
    do_job(demo, ForecastStorage())
    assert some not in told(COMMAND_LINE), "who is past it is over, not filling up"


def test_a_preview_is_what_the_limit_then_does(demo: Database) -> None:
    people = every(demo, OLDQUAY, "OLDQUAY")
    here = [each for each in people if each.here]
    some = tuple(each.name for each in here if each.account == "OLDQUAY-CREW")[:2]
    demo.run(groups.put, OLDQUAY, GroupTerms("OLDQUAY-CREW", "heavy", "Heavy", None, some, 10))
    demo.run(personal_storage.set_limit, OLDQUAY, "OLDQUAY-CREW", "heavy", P, "46")
    demo.run(people_listing.set_storage_limit, OLDQUAY, here[0].name, P, "1")
    for account, group, gb in (
        ("OLDQUAY", None, "20"),
        ("OLDQUAY-CREW", "heavy", "40"),
        ("OLDQUAY-HARBOUR", None, "9"),
    ):
        found = demo.run(limits.preview, OLDQUAY, P, account, group, int(gb) * 1000)
        demo.run(personal_storage.set_limit, OLDQUAY, account, group, P, gb)
        now = every(demo, OLDQUAY, account)
        source = "group Heavy" if group else f"default of {demo.run(listing.total, OLDQUAY, P, account).account_name}"
        mine = [each for each in now if each.source == source]
        assert found.people == len(mine) > 0
        assert found.over == sum(each.size.now > int(gb) * 1000 for each in mine)
        assert found.near == sum(each.state == "near" for each in mine)
        assert found.beyond == sum(max(0, each.size.now - int(gb) * 1000) for each in mine)
        assert sum(band.people for band in found.bands) == len(mine)
    shown = {each.name: (each.limit, each.source) for each in every(demo, OLDQUAY, "OLDQUAY") if each.here}
    for name, (limit, source) in shown.items():
        mine_too = next(
            each for each in demo.run(people_listing.person, OLDQUAY, name).stored if each.product.code == P
        )
        assert (mine_too.limit, mine_too.source) == (limit, source), "as the person's own page says"
    assert {each.name for each in every(demo, OLDQUAY, "OLDQUAY", show="over")} == {
        each.name for each in every(demo, OLDQUAY, "OLDQUAY") if each.state == "over"
    }
    over_here = {(each.account, each.name) for each in every(demo, OLDQUAY, "OLDQUAY", show="over")}
    over_everywhere = every(demo, COMMAND_LINE, "GANNET", show="over")
    assert {(each.account, each.name) for each in over_everywhere if each.account.startswith("OLDQUAY")} == over_here
    gone = demo.run(limits.preview, OLDQUAY, P, "OLDQUAY-HARBOUR", None, None)
    assert gone.over == sum(each.size.now > 20_000 for each in every(demo, OLDQUAY, "OLDQUAY-HARBOUR") if each.here)


@settings(max_examples=30)
@given(st.integers(0, 60_000), st.none() | st.integers(0, 60_000), st.lists(st.integers(-2, 2), min_size=12))
def test_who_is_over_follows_from_how_many_store_how_much(
    shared_demo: Database, would: int, now: int | None, off_by: list[int]
) -> None:
    ends = [end for limit in (would, now or 0) for end in (store.near_from(limit), store.beyond(limit)) if end > 2]
    product, whose_is = shared_demo.run(lambda tx: (pools.product(tx, P), whose(tx)))
    asked = spread_store.PeopleAsked(product.id, sa.true(), whose_is, True, needs_people=True)
    people = [stored.c.product_id == product.id, stored.c.kind == "person"]
    with shared_demo.engine.connect() as connection:
        rows = connection.execute(sa.select(stored.c.account_id, stored.c.name).where(*people)).all()
        # Some store about as much as a limit, byte by byte; the others what they do.
        for number, (row, by) in enumerate(zip(rows, off_by, strict=False)):
            one = [*people, stored.c.account_id == row.account_id, stored.c.name == row.name]
            connection.execute(sa.update(stored).where(*one).values(bytes=ends[number % len(ends)] + by))
        found = spread_store.states(connection, asked, would, now)
        each = spread_store.states(connection, asked, sa.literal(would), now)
        bands, by_index = (spread_store.sizes(connection, of) for of in (asked, replace(asked, needs_people=False)))
        some = replace(asked, governed=stored.c.account_id.in_([row.account_id for row in rows[::3]]))
        some_bands, some_by_index = (
            spread_store.sizes(connection, of) for of in (some, replace(some, needs_people=False))
        )
        ranks = [usage.grains(size) for size in sorted(connection.scalars(asked.of(sa.select(stored.c.bytes))))]
        found_at = [spread_store.at_rank(connection, asked, bands, rank % len(ranks) + 1) for rank in off_by]
    assert len(found) > 5 and [states_of(band) for band in found] == [states_of(band) for band in each]
    assert some_by_index == some_bands != bands
    assert by_index == bands and sum(band.people for band in bands) == len(ranks)
    assert found_at == [ranks[rank] for rank in off_by]


def test_shared_folders_are_found_by_their_limit_and_by_who_looks_after_them(demo: Database) -> None:
    crew = every(demo, OLDQUAY, "OLDQUAY-CREW")
    with demo.transaction() as tx:
        product = pools.product(tx, P)
        account_id = accounts_service.known(tx).facts[accounts_service.known(tx).tree.row("OLDQUAY-CREW")].id
    mine = [each.name for each in crew if each.here][:3]
    bosses = GroupTerms("OLDQUAY-CREW", "deck", "Deck", None, tuple(mine), 10)
    demo.run(groups.put, OLDQUAY, bosses)
    for code, owner, limit, group in (
        ("LOGS", mine[0], 100, None),
        ("PLANS", mine[1], 95, "deck"),
        ("OLD", None, None, None),
    ):
        terms = folders.FolderTerms(code.title(), owner, limit, True, group)
        demo.run(folders.put, OLDQUAY, P, "OLDQUAY-CREW", code, terms)
    there = {each.name: each for each in every(demo, OLDQUAY, "OLDQUAY-CREW", "folders")}
    assert there["LOGS"].size.now == 0 and there["LOGS"].title == "Logs", "there at once, with nothing in it"
    samples = [
        {"account_id": account_id, "category": f"folder/{code}", "at": demo.clock.now(), "bytes": size * 10**6}
        for code, size in (("LOGS", 101), ("PLANS", 80), (f"PLANS/{mine[1]}", 3), (f"PLANS/{mine[2]}", 7), ("OLD", 1))
    ]
    demo.run(storing.report_sizes, product, samples)

    def names(show: str) -> list[str]:
        return [each.name for each in every(demo, OLDQUAY, "OLDQUAY-CREW", "folders", show)]

    assert (names("over"), names("near"), names("nobody")) == (["LOGS"], ["PLANS"], ["OLD"])
    shares = demo.run(listing.holders, OLDQUAY, P, "OLDQUAY-CREW", "folders", "all", "share", "", 0, 9).rows
    assert [(each.name, each.limit, each.state) for each in shares][:2] == [
        ("LOGS", 100, "over"),
        ("PLANS", 95, "near"),
    ]
    assert shares[0].owner and shares[0].source == "its own limit" and not shares[-1].here
    found = demo.run(listing.holders, OLDQUAY, P, "OLDQUAY-CREW", "folders", "all", "size", "plan", 0, 9)
    assert [each.name for each in found.rows] == ["PLANS"] and found.total == 1
    for code, state in (("OLD", "deleted"), ("LOGS", "archived")):
        demo.run(folders.set_state, OLDQUAY, P, "OLDQUAY-CREW", code, state)
    stands = {each.name: each.stands for each in every(demo, OLDQUAY, "OLDQUAY-CREW", "folders")}
    assert (stands["OLD"], stands["LOGS"], stands["PLANS"]) == ("deleted", "archived", None)
    members = demo.run(listing.detail, OLDQUAY, P, "OLDQUAY-CREW", "folders", "PLANS").members
    assert [(who, size) for who, _, size in members] == [(mine[2], 7), (mine[1], 3), (mine[0], 0)]
    demo.run(groups.forget, OLDQUAY, "OLDQUAY-CREW/deck")
    assert demo.run(folders.known, OLDQUAY, P, [("OLDQUAY-CREW", "PLANS")])["OLDQUAY-CREW", "PLANS"].terms.group is None
    assert demo.run(checks.verify, COMMAND_LINE) == []


def test_an_account_can_keep_making_shared_folders_for_itself(demo: Database) -> None:
    terms = folders.FolderTerms("Plans", None, None, False)
    demo.run(account_admin.set_setting, OLDQUAY, "OLDQUAY", "folders", 1)
    demo.run(account_admin.set_setting, CREW, "OLDQUAY-CREW", "folders", 0)
    with pytest.raises(Refused, match="Ask Old Quay Ferries"):
        demo.run(folders.put, CREW, P, "OLDQUAY-CREW", "PLANS", terms)
    demo.run(folders.put, OLDQUAY, P, "OLDQUAY-CREW", "PLANS", terms)
    demo.run(folders.put, CREW, P, "OLDQUAY-CREW", "PLANS", terms), "one that is there is looked after as before"
    with pytest.raises(Refused, match="each account's admins or this account's admins"):
        demo.run(account_admin.set_setting, OLDQUAY, "OLDQUAY", "folders", 2)


def test_what_is_kept_follows_late_samples_moves_and_days(new_odd: Callable[[int, int, str], Database]) -> None:
    database, chance = new_odd(11, 12, "bushy"), random.Random(5)
    with database.transaction() as tx:
        product, ids = pools.product(tx, "BYTES"), accounts_service.ids_by_code(tx)

    said, taken = samples_of(database, product.id), len(samples_of(database, product.id))
    days = [(ODD_AT - timedelta(days=back)).replace(tzinfo=UTC) for back in range(100)]

    def any_time(tx: Transaction) -> datetime:
        return tx.now - timedelta(seconds=chance.randrange(chance.choice([600_000, 8_640_000])))

    def report(tx: Transaction, loads: bool) -> None:
        accounts = [chance.choice(sorted(ids)) for _ in range(3)]
        names = ["mail", "home/ada", "home/ada/mail", "folder/PLANS", "home/", "folder"]
        assignments.lock(tx, [product])
        rows = {
            (ids[account], name, at): {
                "product_id": product.id,
                "account_id": ids[account],
                "category": name,
                "at": at,
                "bytes": chance.choice([0, 5 * 10**9, 2**53 + chance.randrange(2), chance.randrange(0, 10**10)]),
            }
            for account in accounts
            for at in [chance.choice([chance.choice(days), chance.choice(days[:7]), tx.now, tx.now, any_time(tx)])]
            for name in chance.sample(names, 3)
        }
        said.update({key: row["bytes"] for key, row in rows.items()})
        (usage.load_samples if loads else usage.record_samples)(tx, list(rows.values()))
        again = usage.load_samples(tx, list(rows.values()))
        assert (again.created, again.changed, again.left) == (0, 0, len(rows))
        assignments.rebuild_locked(tx, [product])

    for turn in range(40):
        database.run(report, turn % 4 == 0)
        if chance.random() < 0.2:
            database.clock.shift += timedelta(days=chance.randint(1, 9))
            assert database.run_repeatable(usage.age_stored, product)
            assert not database.run_repeatable(usage.age_stored, product)
        with database.transaction() as tx:
            assert usage.stored_differences(tx, [product]) == []
        kept = samples_of(database, product.id)
        for account_id, name, at in said:
            assert standing(kept, account_id, name, at) == standing(said, account_id, name, at)
    assert len(kept) < len(said) and len(said) > taken + 200  # what says nothing new is no row
    with database.transaction() as tx:
        assert tx.connection.scalar(sa.text("SELECT COUNT(*) FROM sample_rounds")) > 20


def samples_of(database: Database, product_id: int) -> dict[tuple[int, str, datetime], int]:
    """Bytes by account, category and instant of every row of a product."""
    with database.transaction() as tx:
        rows = tx.connection.execute(sa.select(storage_samples).where(storage_samples.c.product_id == product_id))
        return {(row.account_id, row.category, row.at.replace(tzinfo=UTC)): row.bytes for row in rows}


def standing(samples: dict[tuple[int, str, datetime], int], account_id: int, name: str, at: datetime) -> int | None:
    """The bytes that stand in a category of an account at an instant."""
    before = [each for each in samples if each[:2] == (account_id, name) and each[2] <= at]
    return samples[max(before)] if before else None


def test_a_leaver_leaves_their_bytes_behind_until_they_are_moved(demo: Database) -> None:
    name = next(each.name for each in every(demo, OLDQUAY, "OLDQUAY-CREW") if each.here)
    demo.run(acting.act, OLDQUAY, "move", Asked(usernames=(name,)), ActOptions(to_account="OLDQUAY-HARBOUR"))
    assert name in {each.name for each in every(demo, OLDQUAY, "OLDQUAY", show="nobody")}
    demo.run(people_listing.move_bytes, OLDQUAY, name, "OLDQUAY-CREW")
    left = {each.name for each in every(demo, OLDQUAY, "OLDQUAY", show="nobody")}
    assert name not in left and demo.run(checks.verify, COMMAND_LINE) == []


@given(
    st.integers(0, 10**6),
    st.integers(1, 10**6),
    st.lists(st.tuples(st.integers(-(10**5), 10**5), st.integers(1, 90)), min_size=1, max_size=3),
)
def test_full_is_when_the_pace_says(now: int, limit: int, grown: list[tuple[int, int]]) -> None:
    today = ODD_AT.date()
    found = filling(now, limit, grown, today)
    for day in (found.day, found.soonest, found.latest):
        if day is not None and day > today:
            ahead = (day - today).days
            assert any(now + by * ahead // span >= limit > now + by * (ahead - 1) / span for by, span in grown)
    if now >= limit:
        assert found.day == found.soonest == found.latest == today
    elif all(by <= 0 for by, _ in grown):
        assert found.soonest is None
    assert FURTHEST_DAYS == 3650
    if found.latest is not None:
        assert found.soonest is not None and found.day is not None and found.soonest <= found.day <= found.latest


def test_who_is_near_or_over_is_told_once_and_their_admins_together(demo: Database) -> None:
    demo.run(personal_storage.set_limit, OLDQUAY, "OLDQUAY-CREW", None, P, "46", personal_storage.AtLimit("tell", 80))
    mine = [each for each in every(demo, OLDQUAY, "OLDQUAY-CREW") if each.here]
    over = {each.name for each in mine if each.size.now > 46_000}
    near = {each.name for each in mine if 46_000 * 0.8 <= each.size.now <= 46_000}
    assert over and near
    with demo.transaction() as tx:
        tx.connection.execute(sa.text("DELETE FROM outbox"))
        named = sa.text("UPDATE people SET display_name = 'See http://x.example' WHERE username = :name")
        tx.connection.execute(named, {"name": min(over)})
    do_job(demo, TellStorageLimits())
    with demo.transaction() as tx:
        bodies = list(tx.connection.scalars(sa.text("SELECT body FROM outbox")))
    assert not any("http://x.example" in body for body in bodies), "nobody's name makes a link in a mail"

    def mails() -> list[Any]:
        with demo.transaction() as tx:
            return list(tx.connection.execute(sa.text("SELECT to_address, subject FROM outbox ORDER BY id")))

    first = mails()
    with demo.transaction() as tx:
        rows = tx.connection.execute(sa.text("SELECT username, email FROM people"))
        emails = {row.username: row.email for row in rows}
    for names, word in ((over, "over"), (near, "near")):
        told = {to for to, subject in first if subject == f"Your storage in Deepshelf Storage is {word} its limit"}
        assert told >= {emails[name] for name in names if emails[name]}
    digests = [
        subject for _, subject in first if "storage limit in Deepshelf Storage" in subject and "people" in subject
    ]
    assert any(f"{len(over)} " in each and "over" in each for each in digests), digests
    do_job(demo, TellStorageLimits())
    assert mails() == first, "told once"
    demo.run(personal_storage.set_limit, OLDQUAY, "OLDQUAY-CREW", None, P, "90")
    do_job(demo, TellStorageLimits())
    assert mails() == first
    demo.run(personal_storage.set_limit, OLDQUAY, "OLDQUAY-CREW", None, P, "10")
    do_job(demo, TellStorageLimits())
    assert len(mails()) > len(first), "and again after they were back within it"


def test_what_was_left_behind_is_moved_deleted_after_a_while_or_kept(demo: Database) -> None:
    [gone] = every(demo, OLDQUAY, "OLDQUAY-CREW", show="nobody")
    mine = next(each for each in every(demo, OLDQUAY, "OLDQUAY-CREW") if each.here)
    place = (P, "OLDQUAY-CREW", gone.name)
    with pytest.raises(Refused, match="stays"):
        demo.run(left_behind.delete_after, OLDQUAY, P, "OLDQUAY-CREW", mine.name, 3)
    for who, product, account, name in ((CREW, P, "TERN-REPAIRS", gone.name), (OLDQUAY, P, "OLDQUAY-CREW", "nobody")):
        with pytest.raises(Refused, match="no (account|storage)"):
            demo.run(left_behind.move, who, product, account, name, mine.name, None)
    with pytest.raises(Refused, match="no person"):
        demo.run(left_behind.move, OLDQUAY, *place, "lev.birch2", None)

    at = demo.run(left_behind.delete_after, OLDQUAY, *place, 3)
    assert at is not None and demo.run(left_behind.delete_at, OLDQUAY, *place) == at
    demo.run(left_behind.delete_after, OLDQUAY, *place, None)
    demo.clock.shift += timedelta(days=4)
    for job in (AgeStored(), DeleteLeftBehind()):
        do_job(demo, job)
    demo.run(assignments.rebuild_stale)
    assert gone.name in {each.name for each in every(demo, OLDQUAY, "OLDQUAY-CREW", show="nobody")}, "kept after all"

    sizes = {each.name: each.size.now for each in every(demo, OLDQUAY, "OLDQUAY-CREW")}
    demo.run(folders.put, OLDQUAY, P, "OLDQUAY-CREW", "OLD", folders.FolderTerms("Old", None, None, False))
    demo.run(folders.set_state, OLDQUAY, P, "OLDQUAY-CREW", "OLD", "deleted")
    demo.run(folders.put, OLDQUAY, P, "OLDQUAY-CREW", "SMALL", folders.FolderTerms("Small", None, 1, True))
    for folder, why in (
        ("OLD", "Old is archived"),
        ("NONE", "no shared folder"),
        ("SMALL", "Small may store 0.001 GB, and would store"),
    ):
        with pytest.raises(Refused, match=why):
            demo.run(left_behind.move, OLDQUAY, *place, None, folder)
    demo.run(left_behind.delete_after, OLDQUAY, *place, 3)
    assert demo.run(left_behind.move, OLDQUAY, *place, mine.name, None) == sizes[gone.name]
    assert demo.run(left_behind.delete_at, OLDQUAY, *place) is None, "what comes there later is not deleted"
    after = {each.name: each.size.now for each in every(demo, OLDQUAY, "OLDQUAY-CREW")}
    assert after[mine.name] == sizes[mine.name] + sizes[gone.name] and after[gone.name] == 0

    demo.run(acting.act, OLDQUAY, "move", Asked(usernames=(mine.name,)), ActOptions(to_account="OLDQUAY-HARBOUR"))
    demo.run(left_behind.delete_after, OLDQUAY, P, "OLDQUAY-CREW", mine.name, 3)
    demo.clock.shift += timedelta(days=4)
    demo.run(assignments.rebuild_stale)
    do_job(demo, DeleteLeftBehind())
    assert {each.name: each.size.now for each in every(demo, OLDQUAY, "OLDQUAY-CREW")}[mine.name] == 0
    assert demo.run(checks.verify, COMMAND_LINE) == []


def test_what_becomes_of_what_leavers_store_is_chosen_when_they_leave(demo: Database) -> None:
    def sizes(account: str) -> dict[str, int]:
        rows = every(demo, OLDQUAY, account)
        return {each.name: each.size.now for each in rows if each.account == account and each.size.now}

    def leave(what: acting.Act, names: Sequence[str], leaving: Leaving, **how: str) -> list[int]:
        asked, options = Asked(usernames=tuple(names)), ActOptions(leaving=leaving, **how)  # type: ignore[arg-type]
        told = demo.try_out(acting.act, OLDQUAY, what, asked, options)
        done = demo.run(acting.act, OLDQUAY, what, asked, options)
        assert told.stored == done.stored and done.done == list(names)
        return [each.grains for each in done.stored]

    crew = sizes("OLDQUAY-CREW")
    [ada, bo, cy, dan] = [each.name for each in every(demo, OLDQUAY, "OLDQUAY-CREW") if each.here]
    ticket = sizes("OLDQUAY-TICKET")
    ed = next(each.name for each in every(demo, OLDQUAY, "OLDQUAY-TICKET") if each.here)
    for wrong, why in (
        (Leaving("delete", days=0), "days"),
        (Leaving("person", "nobody"), "no person"),
        (Leaving("person", ada), "no person"),
        (Leaving("folder", "NONE"), "no shared folder"),
        (Leaving("take"), "moves to another"),
    ):
        for run in (demo.run, demo.try_out):
            with pytest.raises(Refused, match=why):
                run(acting.act, OLDQUAY, "remove", Asked(usernames=(ada, bo)), ActOptions(leaving=wrong))
    with pytest.raises(Refused, match="Your role"):
        looks = replace(OLDQUAY, permissions=OLDQUAY.permissions - {"layers.change"})
        demo.run(acting.act, looks, "remove", Asked(usernames=(ada,)), ActOptions(leaving=Leaving("delete", days=3)))
    assert sizes("OLDQUAY-CREW") == crew, "nothing is half done"

    harbour = sizes("OLDQUAY-HARBOUR")

    def cap(most: int | None) -> None:
        was = demo.run(views.cell, COMMAND_LINE, "OLDQUAY-HARBOUR", P).version
        seen, there, terms = was.id if was else None, terms_of(was), Terms(cap=most)
        change = AllocationChange(account="OLDQUAY-HARBOUR", product=P, terms=terms, seen=seen, was=there)
        demo.run(apply_changes, COMMAND_LINE, [change], f"a cap of {most}")

    cap(demo.run(listing.total, OLDQUAY, P, "OLDQUAY-HARBOUR").size.now + 1)
    with pytest.raises(Refused, match="would be added in Harbour Branch"):
        leave("move", [ada], Leaving("take"), to_account="OLDQUAY-HARBOUR")
    there = demo.run(people_listing.person, OLDQUAY, ada).row
    assert (there.account, sizes("OLDQUAY-HARBOUR")) == ("OLDQUAY-CREW", harbour)
    cap(None)
    assert leave("move", [ada], Leaving("take"), to_account="OLDQUAY-HARBOUR") == [crew[ada]]
    assert sizes("OLDQUAY-HARBOUR") == harbour | {ada: crew[ada]} and ada not in sizes("OLDQUAY-CREW")
    assert leave("remove", [bo], Leaving("person", dan)) == [crew[bo]]
    terms = folders.FolderTerms("Logs", None, None, False)
    demo.run(folders.put, OLDQUAY, P, "OLDQUAY-CREW", "LOGS", terms)
    assert leave("remove", [cy], Leaving("folder", "LOGS")) == [crew[cy]]
    with demo.transaction() as tx:
        product, found = pools.product(tx, P), accounts_service.known(tx)
        account_id = int(found.ids[found.tree.row("OLDQUAY-CREW")])
        assert usage.grains(usage.stored_of_category(tx, product, account_id, "folder/LOGS")) == crew[cy]
    assert leave("remove", [ed], Leaving("delete", days=3)) == [ticket[ed]]
    demo.run(acting.act, OLDQUAY, "restore", Asked(usernames=(ed,)))
    assert leave("remove", [ed], Leaving()) == [ticket[ed]]
    place = (P, "OLDQUAY-TICKET", ed)
    assert demo.run(left_behind.delete_at, OLDQUAY, *place) is None, "kept, whatever was chosen before"
    demo.run(left_behind.delete_after, OLDQUAY, *place, 3)
    now = sizes("OLDQUAY-CREW")
    assert abs(now[dan] - crew[dan] - crew[bo]) <= 1, "to a grain, as each is rounded"
    assert not {bo, cy} & now.keys() and sizes("OLDQUAY-TICKET") == ticket
    demo.clock.shift += timedelta(days=4)
    demo.run(assignments.rebuild_stale)
    do_job(demo, DeleteLeftBehind())
    assert sizes("OLDQUAY-TICKET").keys() == ticket.keys() - {ed}
    assert demo.run(checks.verify, COMMAND_LINE) == []
