"""What is now, read from the counters of a few accounts, is to the grain what the engine makes of all facts."""

from __future__ import annotations

import itertools
import random
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace
from datetime import timedelta
from typing import Any

import numpy as np
import pytest
import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.tables import accounts as accounts_table
from fair_ladle.app.allocations import listing, present, views
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.allocations.positions import Positions, positions_at, snapshot_at
from fair_ladle.app.allocations.routes import CellName, cell_body, grid_body
from fair_ladle.app.assignments import counters, store
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.assignments import usecases as admissions
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import AllocationChange, Terms
from fair_ladle.app.drafts.effects import EffectBody, effect_body
from fair_ladle.app.drafts.preview import preview
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools
from fair_ladle.app.today import usecases as today
from fair_ladle.core.tree import Tree
from tests.conftest import ODD_AT, TIMES, actor_of


@pytest.fixture(params=[(11, 24, "bushy"), (12, 30, "wide"), (13, 12, "chain")], ids=str)
def odd(request: pytest.FixtureRequest, new_odd: Callable[[int, int, str], Database]) -> Database:
    database = new_odd(*request.param)
    database.run(assignments.rebuild_stale)
    return database


def agree(tx: Transaction, actor: Actor) -> None:
    """Every figure that an actor is shown of their branch, both ways."""
    products = pools.products(tx)
    whole = positions_at(tx, products, tx.now)
    accounts = whole.snapshot.accounts
    top = accounts_service.top_row(accounts, actor)
    rows = accounts.tree.branch(top)
    facts = snapshot_at(tx, products, whole.snapshot.at)
    arrays = present.snapshot(tx, products)
    assert arrays is not None, "the counters are made"
    assert np.array_equal(arrays.own, facts.own)
    assert arrays.clocks == facts.clocks
    for some in (rows.tolist(), [int(rows[-1])]):
        compare(present.positions(tx, products, some, use=True), whole, some, actor)
        compare(present.positions(tx, products, some), whole, some, actor, gauges=False)


def compare(few: Positions, whole: Positions, rows: list[int], actor: Actor, gauges: bool = True) -> None:
    accounts, part = whole.snapshot.accounts, few.snapshot.accounts
    there = [part.tree.row(accounts.tree.codes[row]) for row in rows]
    reached = whole.snapshot.owner[rows] >= 0
    seen = [each.seen_by(accounts_service.top_row(each.snapshot.accounts, actor)) for each in (whole, few)]
    figures = {
        "own": [each.snapshot.own for each in seen],
        "load": [each.settled.load for each in seen],
        "held": [each.settled.held for each in seen],
        "cap": [each.snapshot.grid.cap for each in seen],
        "allocated": [each.snapshot.grid.present for each in seen],
        "hard": [each.hard for each in seen],
        "room": [each.headroom.room for each in seen],
        "restricted": [each.restricted for each in seen],
        "most reserve": [each.most_reserve() for each in seen],
        "state": [np.array(each.states()) for each in seen],
        **({"used": [each.used() for each in seen]} if gauges else {}),
    }
    for name, (of_whole, of_few) in figures.items():
        assert np.array_equal(of_whole[rows][reached], of_few[there][reached]), name
    for row, place in zip(rows, there, strict=True):
        for column in np.flatnonzero(whole.snapshot.owner[row] >= 0).tolist():
            assert seen[0].bound_by(row, column) == seen[1].bound_by(place, column)


def something(database: Database, chance: random.Random) -> None:
    """An admission, a release, other terms of a cell, or time."""
    with database.transaction() as tx:
        tree, products = accounts_service.known(tx).tree, pools.products(tx)
    account, product = chance.choice(tree.codes), chance.choice([each for each in products if not each.is_storage])
    kind = chance.random()
    with suppress(Refused):
        if kind < 0.4:
            wanted = [Wanted(account, product.code, f"new {chance.random()}") for _ in range(chance.randint(1, 3))]
            database.run(admissions.assign, COMMAND_LINE, wanted)
        elif kind < 0.6:
            with database.transaction() as tx:
                row = tx.connection.exec_driver_sql(
                    "SELECT a.code, p.code, s.subject FROM assignments s JOIN accounts a ON a.id = s.account_id JOIN "
                    "products p ON p.id = s.product_id WHERE s.ends IS NULL AND s.begins < %s ORDER BY s.id LIMIT 1",
                    (tx.now.replace(tzinfo=None),),
                ).first()
            assert row is not None
            database.run(admissions.release, COMMAND_LINE, [Wanted(*row)])
        elif kind < 0.85:
            terms = Terms(
                reserve=chance.choice([0, 0, 1]),
                cap=chance.choice([1, 2, 5, 60]),
                at_cap=chance.choice(["block", "overage", "grace"]),
                grace_days=3,
            )
            with database.transaction() as tx:
                version = views.cell(tx, COMMAND_LINE, account, product.code).version
                seen = version.id if version else None
                change = AllocationChange(
                    account=account, product=product.code, terms=terms, seen=seen, was=terms_of(version)
                )
                drafts.apply_changes(tx, COMMAND_LINE, [change], "a test")
        else:
            database.clock.shift += timedelta(hours=chance.randint(1, 30))
            database.run(assignments.rebuild_stale)
    if chance.random() < 0.4:
        database.run(assignments.add_up_use)


def test_counters_say_what_the_facts_say(odd: Database) -> None:
    chance = random.Random(5)
    for _ in range(6 * TIMES):
        something(odd, chance)
        with odd.transaction() as tx:
            codes = accounts_service.known(tx).tree.codes
            for scope in (None, chance.choice(codes), chance.choice(codes)):
                agree(tx, actor_of(scope))
            assert counters.differences(tx) == []


def test_screens_say_the_same_with_and_without_counters(odd: Database) -> None:
    """Today, the grid and a cell, from counters and, where those hold no longer, from the facts."""
    with odd.transaction() as tx:
        codes = accounts_service.known(tx).tree.codes

    def screens(tx: Transaction) -> list[object]:
        found: list[object] = []
        for scope in (codes[0], codes[3], codes[7]):
            actor = actor_of(scope)
            day = today.today(tx, actor)
            body = grid_body(views.grid(tx, actor))
            pressed = [(each.account, each.product.code, each.state, each.headroom) for each in day.at_risk]
            found += [
                pressed,
                day.past_count,
                day.near_count,
                day.shortfalls,
                day.idle,
                day.outlook,
                day.endings,
                body["pools"],
            ]
            for product in pools.products(tx):
                with suppress(Refused):
                    found.append(cell_body(views.cell(tx, actor, scope, product.code), actor))
        return found

    odd.clock.set_to(ODD_AT)
    with odd.transaction() as tx:
        assert present.are_current(tx, pools.pools(tx, pools.products(tx)))
        from_counters = screens(tx)
    with odd.transaction() as tx:
        pools.mark_stale(tx)
        assert not present.are_current(tx, pools.pools(tx, pools.products(tx)))
        assert screens(tx) == from_counters


def test_a_draft_does_the_same_along_its_paths_as_in_the_whole_tree(odd: Database) -> None:
    """What a draft would do, from the counters on the ways up of what it changes, against the whole tree."""
    chance = random.Random(8)
    looked = 0
    for _ in range(15 * TIMES):
        something(odd, chance)
        with odd.transaction() as tx:
            tree = accounts_service.known(tx).tree
            codes = tree.codes
            products = [each.code for each in pools.products(tx)]
            scope = chance.choice([codes[0], codes[0], codes[1], codes[3], codes[7]])
            actor = replace(actor_of(scope), sign_in_id=1)
            inside = [codes[row] for row in tree.branch(tree.row(scope))]
            wanted = {
                (chance.choice(chance.choice([inside, codes])), chance.choice(products))
                for _ in range(chance.randint(1, 4))
            }
            changes = [change_of(tx, actor, chance, *each) for each in sorted(wanted)]
            look_at = CellName(account=scope, product=chance.choice(products))
            whole = effect_body(preview(tx, actor, changes), actor, look_at)
            along = effect_body(preview(tx, actor, changes, None, codes), actor, look_at, codes)
            assert along == whole
            some = list(codes[:: chance.randint(2, 5)])
            few = effect_body(preview(tx, actor, changes, None, [*some, scope]), actor, look_at, some)
            wrong = {each.key for each in whole.faults}
            shown = {*some, *(each.account for each in changes if each.key not in wrong)}
            assert few.model_copy(update={"cells": whole.cells}) == whole
            assert cells_of(few) == {at: cell for at, cell in cells_of(whole).items() if at[0] in shown}
            looked += len(cells_of(whole))
    assert looked > (50 if TIMES > 1 else 5)


def change_of(tx: Transaction, actor: Actor, chance: random.Random, account: str, product: str) -> AllocationChange:
    found = allocations.in_force(
        tx,
        [pools.product(tx, product).id],
        [accounts_service.ids_by_code(tx, [account])[account]],
        accounts_service.today(tx),
    )
    version = next(iter(found.values()), None)
    terms = Terms(
        reserve=chance.choice([0, 0, 1, 3]),
        cap=chance.choice([None, 1, 3, 5, 60]),
        at_cap=chance.choice(["block", "overage", "grace"]),
        burst=chance.choice([None, 2]),
        grace_days=3,
    )
    return AllocationChange(
        account=account,
        product=product,
        terms=chance.choice([terms, terms, None]),
        seen=version.id if version else None,
        was=terms_of(version),
    )


def cells_of(effect: EffectBody) -> dict[tuple[str, str], tuple[Any, ...]]:
    return {
        (cells.account[at], cells.product): tuple(
            getattr(cells, name)[at] for name in ("reserve", "cap", "load", "held_by", "headroom", "state")
        )
        for cells in effect.cells
        for at in range(len(cells.account))
    }


def test_windows_show_what_the_whole_grid_shows(odd: Database) -> None:
    """Every window of every way to list the accounts, for an owner and for readers below, against the grid as one."""
    odd.clock.set_to(ODD_AT)
    with odd.transaction() as tx:
        codes = accounts_service.known(tx).tree.codes
        names = [each.code for each in pools.products(tx)]
        yesterday = tx.now - timedelta(days=1)
        for scope, at in itertools.product((codes[0], codes[3], codes[7]), (None, yesterday)):
            actor = actor_of(scope)
            whole = grid_body(views.grid(tx, actor, names, at))
            for show, find in (("all", ""), ("attention", ""), ("idle", ""), ("all", codes[5].lower())):
                wanted = listing.Wanted(names, all_open=True, show=show, find=find, limit=7, at=at)
                listed = expected(whole, show, find)
                found: list[str] = []
                while len(found) < len(listed):
                    part = listing.listing(tx, actor, replace(wanted, first=len(found)))
                    body = grid_body(part.view)
                    assert part.count == len(listed)
                    assert part.attention == len(expected(whole, "attention", "", above=False))
                    found += body["accounts"]["code"]
                    for pool in body["pools"]:
                        same = next(each for each in whole["pools"] if each["product"] == pool["product"])
                        assert [pool[name] for name in HEADS] == [same[name] for name in HEADS]
                        for place, code in enumerate(body["accounts"]["code"]):
                            there = whole["accounts"]["code"].index(code)
                            assert [pool[name][place] for name in CELL] == [same[name][there] for name in CELL]
                assert found == listed, (show, find)
                alone = listing.listing(tx, actor, replace(wanted, names_alone=True, limit=5000))
                assert grid_body(alone.view)["accounts"]["code"] == listed
                assert not listed or alone.made_of == part.made_of


HEADS = ("supply", "used", "held", "free", "ending", "owned")
CELL = ("present", "reserve", "cap", "own", "used_by", "load", "held_by", "headroom", "bound_by", "state")


def expected(grid: dict[str, Any], show: str, find: str, above: bool = True) -> list[str]:
    """The accounts that a grid has to list: those that are meant, and those above them."""
    accounts, cells = grid["accounts"], grid["pools"]

    def is_meant(place: int) -> bool:
        reached = [pool for pool in cells if pool["present"][place]]
        if show == "attention":
            return any(pool["state"][place] not in ("within", "near") for pool in reached)
        if show == "idle":
            return any(pool["held_by"][place] > pool["load"][place] for pool in reached)
        return find in f"{accounts['name'][place]} {accounts['code'][place]}".lower()

    kept = {place for place in range(len(accounts["code"])) if is_meant(place)}
    for place in list(kept) if above else ():
        while (place := accounts["parent"][place]) >= 0:
            kept.add(place)
    return [accounts["code"][place] for place in sorted(kept)]


def test_branches_open_around_the_account_one_comes_for(odd: Database) -> None:
    with odd.transaction() as tx:
        tree = accounts_service.known(tx).tree
        deep = max(range(len(tree)), key=tree.depth)
        code, path = tree.codes[deep], [tree.codes[row] for row in tree.path_up(deep)]
        found = listing.listing(tx, COMMAND_LINE, listing.Wanted([], around=code, limit=5))
        assert found.opened == path[1:-1]
        again = listing.listing(tx, COMMAND_LINE, listing.Wanted([], branches=frozenset(found.opened), limit=100))
        listed = grid_body(again.view)["accounts"]["code"]
        assert found.place is not None and listed[found.place] == code
        assert [listed[found.first + place] for place in range(len(found.view.rows))] == listed[found.first :][:5]
        below = path[1]
        inside = listing.listing(tx, actor_of(below), listing.Wanted([], around=code))
        assert (inside.opened, inside.place) == ([], 1 + sorted(children(tree, below)).index(code))
        outside = listing.listing(tx, actor_of(code), listing.Wanted([], around=below))
        assert (outside.opened, outside.place, outside.count) == ([], None, 1)


def test_what_one_looks_at_beside_is_as_if_it_were_not_there(odd: Database) -> None:
    """A cell of another branch, and one that there never was: the same answer, and the same rows whatever goes on
    elsewhere."""
    with odd.transaction() as tx:
        tree, product = accounts_service.known(tx).tree, pools.products(tx)[0]
        scope = next(tree.codes[row] for row in range(1, len(tree)) if tree.branch_size[row] > 1)
        inside = [tree.codes[row] for row in tree.branch(tree.row(scope))]
        actor = replace(actor_of(scope), sign_in_id=1)
        change = change_of(tx, actor, random.Random(1), inside[-1], product.code)
        beside = next((code for code in tree.codes if code not in inside), tree.codes[0])
        for shown in (None, [], [beside]):
            told = [
                effect_body(
                    preview(tx, actor, [change], None, shown),
                    actor,
                    CellName(account=code, product=product.code),
                    shown,
                )
                for code in (beside, "NOWHERE")
            ]
            assert told[0] == told[1] and told[0].ladder is None
        before = listing.listing(tx, actor, listing.Wanted([])).made_of
        generations.renew(tx, "structure")
        assert listing.listing(tx, actor, listing.Wanted([])).made_of == before
        assert listing.listing(tx, actor, listing.Wanted([], below=scope)).made_of != before


def children(tree: Tree, code: str) -> list[str]:
    return [tree.codes[row] for row in range(len(tree)) if tree.parent[row] == tree.row(code)]


def test_more_are_pressed_than_are_shown(odd: Database, monkeypatch: pytest.MonkeyPatch) -> None:
    with odd.transaction() as tx:
        every = today.today(tx, COMMAND_LINE)
        monkeypatch.setattr(today, "SHOWN", 3)
        first = today.today(tx, COMMAND_LINE)
    for is_near, count in ((False, first.past_count), (True, first.near_count)):
        of_kind = [[e for e in day.at_risk if (e.state == "near") is is_near] for day in (every, first)]
        assert len(of_kind[0]) == count and of_kind[1] == of_kind[0][:3]
    assert first.past_count > 3


def test_some_accounts_are_told_by_the_branches_they_are(odd: Database, monkeypatch: pytest.MonkeyPatch) -> None:
    chance = random.Random(3)
    monkeypatch.setattr(accounts_service, "NAMED", 0)
    with odd.transaction() as tx:
        accounts, column = accounts_service.known(tx), accounts_table.c.id
        tree = accounts.tree
        largest = max(range(1, len(tree)), key=lambda row: int(tree.branch_size[row]))
        for wanted in (0, 1, 3, 8):
            rows = {*tree.branch(largest).tolist(), *chance.sample(range(len(tree)), min(wanted, len(tree)))}
            ids = [int(accounts.ids[row]) for row in rows - ({largest} if wanted == 3 else set())]
            told = accounts_service.among(accounts, ids, column)
            assert sorted(tx.connection.scalars(sa.select(column).where(told))) == sorted(ids)
            listed = [each for each in told.compile().params.values() if isinstance(each, list)]
            assert wanted or listed == [[]], "a whole branch is not named account by account"


def test_what_presses_in_a_branch_is_found_without_going_through_all_accounts(
    odd: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(accounts_service, "NAMED", 0)
    with odd.transaction() as tx:
        accounts, products = accounts_service.known(tx), pools.products(tx)
        leaf = int(accounts.tree.rows_in_order()[-1])
        assert present.are_current(tx, pools.pools(tx, products))

        def read() -> int:
            counts = tx.connection.execute(sa.text("SHOW SESSION STATUS LIKE 'Handler_read%'"))
            return sum(int(row[1]) for row in counts)

        before = read()
        present.pressed(tx, accounts, leaf, products, 5)
        assert read() - before < 60, "an account, what presses there and its pools, however many others there are"


def test_counters_made_anew_while_use_is_added_up_wait_for_it(odd: Database, monkeypatch: pytest.MonkeyPatch) -> None:
    """Between reading what is to be added up and adding it, another connection makes the same counters anew."""
    with odd.transaction() as tx:
        codes, products = accounts_service.known(tx).tree.codes, pools.products(tx)
    for number, code in enumerate(codes):
        for product in products:
            if not product.is_storage:
                with suppress(Refused):
                    odd.run(admissions.assign, COMMAND_LINE, [Wanted(code, product.code, f"new {number}")])
    add_up = store.add_up
    other = threading.Thread(target=lambda: odd.run(assignments.rebuild_locked, products))

    def beside_another(*arguments: Any) -> None:
        other.start()
        time.sleep(0.7)
        add_up(*arguments)

    monkeypatch.setattr(store, "add_up", beside_another)
    assert odd.run(assignments.add_up_use)
    other.join()
    with odd.transaction() as tx:
        assert counters.differences(tx) == []


def test_use_is_added_up_whole_beside_takings_moves_and_counters_made_anew(odd: Database) -> None:
    """Takings append, a job adds up, and others make the counters anew: nothing is lost, nothing counts twice."""
    ended, trouble = time.monotonic() + 2.0, list[BaseException]()

    def again_and_again(do: Callable[[random.Random], None], seed: int) -> None:
        chance = random.Random(seed)
        try:
            while time.monotonic() < ended:
                with suppress(Refused):
                    do(chance)
        except BaseException as broken:  # told below, where it fails the test
            trouble.append(broken)

    with odd.transaction() as tx:
        codes, products = accounts_service.known(tx).tree.codes, pools.products(tx)
    counted = [each for each in products if each.stands_alone] or [each for each in products if not each.is_storage]

    def take_and_release(chance: random.Random) -> None:
        wanted = [Wanted(chance.choice(codes), chance.choice(counted).code, f"u {chance.random()}")]
        odd.run(admissions.assign, COMMAND_LINE, wanted)
        if chance.random() < 0.5:
            odd.run(admissions.release, COMMAND_LINE, wanted)

    def rebuild(chance: random.Random) -> None:
        odd.run(assignments.rebuild_locked, [chance.choice(counted)])

    work = [take_and_release, take_and_release, lambda chance: odd.run(assignments.add_up_use), rebuild]
    threads = [threading.Thread(target=again_and_again, args=(do, seed)) for seed, do in enumerate(work)]
    for each in threads:
        each.start()
    for each in threads:
        each.join()
    assert trouble == []
    with odd.transaction() as tx:
        assert counters.differences(tx) == []
    while odd.run(assignments.add_up_use):
        pass
    with odd.transaction() as tx:
        assert counters.differences(tx) == []
        assert tx.connection.scalar(sa.text("SELECT COUNT(*) FROM use_changes")) == 0
