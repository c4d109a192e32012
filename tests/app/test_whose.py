"""Whose what is stored is: as people and samples say it at every moment, and as it is kept once it was followed."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from concurrent.futures import TimeoutError as StillWaits
from pathlib import Path

import pytest
import sqlalchemy as sa
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.assignments import storing
from fair_ladle.app.assignments import usecases as checks
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.people import memberships
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people.tables import people
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.pools import service as pools
from fair_ladle.app.storage import limits, listing
from fair_ladle.app.usage import service as usage
from fair_ladle.app.usage import whose
from fair_ladle.app.usage.tables import stored
from fair_ladle.connectors.sheets_in import read_source
from fair_ladle.jobs import SettleStored
from tests.conftest import do_job

P = "DEEPSHELF"


def report(database: Database, account_id: int, username: str, in_bytes: int) -> None:
    with database.transaction() as tx:
        product = pools.product(tx, P)
    sample = {"account_id": account_id, "category": f"home/{username}", "at": database.clock.now(), "bytes": in_bytes}
    database.run(storing.report_sizes, product, [sample])


def catch_up(database: Database) -> None:
    while database.run(memberships.catch_up, whose.follow):
        pass


def told_as_it_is(database: Database) -> None:
    """The lists, the sums and the spread say what usernames, accounts and bytes say."""
    with database.transaction() as tx:
        there = {
            row.username: row.account_id
            for row in tx.connection.execute(sa.select(people).where(people.c.status != "removed"))
        }
        accounts = accounts_service.known(tx)
        rows = list(tx.connection.execute(sa.select(stored).where(stored.c.kind == "person", stored.c.bytes > 0)))
    code = {row.account_id: accounts.tree.codes[accounts.row_of_id[row.account_id]] for row in rows}
    left = {(code[row.account_id], row.name) for row in rows if there.get(row.name) != row.account_id}
    listed = database.snapshot(listing.holders, COMMAND_LINE, P, "GANNET", "people", "nobody", "size", "", 0, 500)
    assert {(each.account, each.name) for each in listed.rows} == left and listed.total == len(left)
    everybody = database.snapshot(listing.holders, COMMAND_LINE, P, "GANNET", "people", "all", "size", "", 0, 2000)
    assert {(each.account, each.name) for each in everybody.rows if not each.here and each.size.now} == left
    total = database.snapshot(listing.total, COMMAND_LINE, P, "GANNET")
    gone = sum(int(row.bytes) for row in rows if (code[row.account_id], row.name) in left)
    assert abs(total.left_behind.now * 10**6 - gone) <= 500_000
    spread = database.snapshot(limits.spread, COMMAND_LINE, P, "GANNET")
    assert spread.people == len(rows) - len(left)


@settings(max_examples=4, phases=[Phase.generate], suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(data=st.data())
def test_whoever_comes_and_goes_it_is_told_as_it_is(
    new_demo: Callable[[], Database], data: st.DataObject, monkeypatch: pytest.MonkeyPatch
) -> None:
    database = new_demo()
    catch_up(database)
    monkeypatch.setattr(people_service, "FEW", data.draw(st.sampled_from([0, 2, 20])))
    with database.transaction() as tx:
        places = [int(each) for each in accounts_service.known(tx).ids]
        homes = [
            (row.account_id, row.name)
            for row in tx.connection.execute(sa.select(stored).where(stored.c.kind == "person"))
        ]
        mine = sa.select(people.c.username, people.c.id).where(people.c.username.in_([name for _, name in homes]))
        id_of = {row.username: row.id for row in tx.connection.execute(mine)}
        everybody = list(tx.connection.execute(sa.select(people.c.username, people.c.account_id)))
    ids = sorted(id_of.values())
    for n in range(8):
        what = data.draw(st.sampled_from(["move", "home", "remove", "rename", "report", "come", "job"]))
        some = data.draw(st.lists(st.sampled_from(ids), min_size=1, max_size=3, unique=True))
        account_id, name = data.draw(st.sampled_from(homes))
        if what == "move":
            database.run(people_service.change, some, {"account_id": data.draw(st.sampled_from(places))})
        elif what == "home":
            database.run(
                people_service.change, [id_of.get(name, some[0])], {"account_id": account_id, "status": "active"}
            )
        elif what == "remove":
            database.run(people_service.change, some, {"status": data.draw(st.sampled_from(["removed", "active"]))})
        elif what == "rename":
            database.run(people_service.change, some[:1], {"username": f"somebody.else.{n}"})
        elif what == "report":
            whom = data.draw(st.sampled_from(everybody))
            report(database, data.draw(st.sampled_from([whom.account_id, places[0]])), whom.username, 3 * 10**9)
        elif what == "come":
            report(database, account_id, f"new.{n}", 10**9)
            told_as_it_is(database)
            new = {"username": f"new.{n}", "account_id": account_id, "display_name": "New", "status": "active"}
            database.run(people_service.add, [new | {"protected": False}])
        else:
            catch_up(database)
        told_as_it_is(database)
    catch_up(database)
    told_as_it_is(database)
    with database.transaction() as tx:
        assert usage.stored_differences(tx, [pools.product(tx, P)]) == []


@pytest.mark.parametrize("comes", [True, False])
def test_who_comes_or_goes_while_their_first_bytes_are_written(demo: Database, comes: bool) -> None:
    """The report has looked whose it is, and is not over: the job that follows the person waits for it."""
    with demo.transaction() as tx:
        product, ids = pools.product(tx, P), accounts_service.ids_by_code(tx)
        person = people_service.by_username(tx, ["uma.calloway"])["uma.calloway"]
    elsewhere, here = ids["BRAMBLE"], ids["OLDQUAY-CREW"]
    demo.run(people_service.change, [person.id], {"account_id": elsewhere if comes else here})
    catch_up(demo)
    sample = {"account_id": here, "category": "home/uma.calloway", "at": demo.clock.now(), "bytes": 10**9}
    with ThreadPoolExecutor(1) as beside:
        with demo.transaction() as tx:
            storing.report_sizes(tx, product, [sample])
            demo.run(people_service.change, [person.id], {"account_id": here if comes else elsewhere})
            job = beside.submit(catch_up, demo)
            with pytest.raises(StillWaits):
                job.result(timeout=0.5)
        job.result(timeout=10)
    told_as_it_is(demo)
    assert demo.run(checks.verify, COMMAND_LINE) == []


def test_an_intake_of_groups_alone_leaves_nobody_behind(demo: Database, tmp_path: Path) -> None:
    catch_up(demo)
    with demo.transaction() as tx:
        home = next(
            row.person_id
            for row in tx.connection.execute(sa.select(stored).where(stored.c.kind == "person"))
            if row.person_id is not None and row.bytes > 0
        )
        elsewhere = accounts_service.ids_by_code(tx)["BRAMBLE"]
    demo.run(people_service.change, [home], {"account_id": elsewhere})
    (tmp_path / "groups.csv").write_text("account,code,name,rule,members,precedence\nBRAMBLE,B-NEW,New,,,\n")
    demo.run(data_import.load, COMMAND_LINE, read_source(tmp_path))
    told_as_it_is(demo)
    assert demo.run(checks.verify, COMMAND_LINE) == []


def test_samples_that_are_loaded_are_somebodys_at_once(demo: Database) -> None:
    catch_up(demo)
    with demo.transaction() as tx:
        product, whom = pools.product(tx, P), people_service.by_username(tx, ["uma.calloway"])["uma.calloway"]
        sample = {"category": "home/uma.calloway", "at": demo.clock.now(), "bytes": 10**9}
        usage.load_samples(tx, [sample | {"product_id": product.id, "account_id": whom.account_id}])
    told_as_it_is(demo)


def test_what_was_missed_is_found_and_mended(demo: Database) -> None:
    catch_up(demo)
    with demo.engine.begin() as connection:
        connection.execute(sa.update(stored).where(stored.c.kind == "person").values(person_id=None))
    found = demo.run(checks.verify, COMMAND_LINE)
    assert found and {each[0] for each in found} == {"stored"}
    do_job(demo, SettleStored())
    assert demo.run(checks.verify, COMMAND_LINE) == []
