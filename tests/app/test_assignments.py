"""Taking and releasing live: never over a hard limit, whoever fights for the last seats and whatever is killed."""

from __future__ import annotations

import multiprocessing
import os
import random
import signal
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sa

from fair_ladle.app.allocations import views
from fair_ladle.app.allocations.positions import positions_at
from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.devices import usecases as devices
from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import AllocationChange, Change, Move, StatusChange, Terms
from fair_ladle.app.drafts.preview import apply_changes
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.plumbing.settings import Settings
from fair_ladle.app.pools import service as pools
from fair_ladle.app.storage_systems import usecases as storage_systems
from fair_ladle.app.storage_systems.usecases import Where
from fair_ladle.connectors.sheets_in import read_source
from tests.app.test_intake import as_folder
from tests.conftest import actor_of

OPERATOR = actor_of("MSP")
TREE = (
    "code,parent,kind,name,currency,time_zone,admin_email,billing_email\nMSP,,operator,Msp,EUR,Europe/Lisbon,,\n"
    + "".join(
        f"C{n},MSP,client,Client {n},,,,\nC{n}-A,C{n},sub-account,A,,,,\nC{n}-B,C{n},sub-account,B,,,,\n"
        for n in range(4)
    )
)
DEVICES = "code,name,vendor,measure,unit,family,requires,components,successor\nBOX,Box,V,device,device,,,,\n"
LOT = "reference,owner,product,quantity,first_day,last_day,unit_cost,currency,true_up,overcommit\nPO,MSP,BOX,{},2026-01-01,{},1,EUR,,\n"
ALLOCATIONS = """account,product,reserve,cap,at_cap,burst,grace_days,first_day,last_day
C0,BOX,10,20,block,,,2026-01-01,
C1,BOX,10,20,grace,5,2,2026-01-01,
C2,BOX,10,20,overage,3,,2026-01-01,
C3,BOX,10,20,block,,,2026-01-01,
C0-A,BOX,5,12,block,,,2026-01-01,
"""


def small(database: Database, folder: Path, supply: int = 60, last_day: str = "") -> Database:
    files = {"accounts": TREE, "products": DEVICES, "lots": LOT.format(supply, last_day), "allocations": ALLOCATIONS}
    database.run(data_import.load, COMMAND_LINE, read_source(as_folder(files, folder)))
    return database


def take(database: Database, account: str, *subjects: str) -> Any:
    return database.run(assignments.assign, OPERATOR, [Wanted(account, "BOX", subject) for subject in subjects])


def wait_for_a_lock(database: Database) -> None:
    """Until somebody waits for a row that another holds."""
    wanted = sa.text("SELECT COUNT(*) FROM information_schema.innodb_trx WHERE trx_state = 'LOCK WAIT'")
    with database.engine.connect() as connection:
        for _ in range(50):
            time.sleep(0.15)  # what is read within a tenth of a second is not read anew
            if connection.scalar(wanted):
                return
    raise AssertionError("nobody waits")


def headrooms(database: Database) -> dict[str, int]:
    with database.transaction() as tx:
        found = positions_at(tx, [pools.product(tx, "BOX")], tx.now)
    return dict(zip(found.snapshot.accounts.tree.codes, found.headroom.room[:, 0].tolist(), strict=True))


def verified(database: Database) -> None:
    assert database.run(assignments.verify, COMMAND_LINE) == []


def test_a_taking_is_admitted_up_to_the_headroom_and_refused_with_its_ladder(
    database: Database, tmp_path: Path
) -> None:
    small(database, tmp_path / "in")
    assert headrooms(database)["C0-A"] == 12
    take(database, "C0-A", *(f"a{n}" for n in range(12)))
    with pytest.raises(Refused) as refused:
        take(database, "C0-A", "one-more")
    ladder = refused.value.problem.more["ladder"]
    assert (ladder["bound_by"], ladder["headroom"], ladder["sentence"]) == (
        "C0-A",
        "0",
        "A can take 0 more, limited by A's cap of 12.",
    )
    assert [step["account"] for step in ladder["limits"]] == ["C0-A", "C0", "MSP", "supply"]
    take(database, "C0-B", *(f"b{n}" for n in range(8)))
    with pytest.raises(Refused, match="Client 0's cap of 20"):
        take(database, "C0-B", "one-more")
    verified(database)


def test_a_batch_is_all_or_nothing(database: Database, tmp_path: Path) -> None:
    small(database, tmp_path / "in")
    with pytest.raises(Refused):
        database.run(assignments.assign, OPERATOR, [Wanted("C3-A", "BOX", f"x{n}") for n in range(21)])
    with pytest.raises(Refused, match="has no Box"):
        database.run(assignments.release, OPERATOR, [Wanted("C3-A", "BOX", "x0")])
    assert headrooms(database)["C3-A"] == 20
    with database.engine.connect() as connection:
        assert connection.scalar(sa.text("SELECT COUNT(*) FROM assignments")) == 0
    verified(database)


def test_what_was_refused_is_given_as_soon_as_it_may_be(database: Database, tmp_path: Path) -> None:
    """A server that knows the structure as it was does not go on refusing by it."""
    small(database, tmp_path / "in")
    take(database, "C0", "before")

    def change(*changes: Change) -> None:
        database.run(apply_changes, COMMAND_LINE, list(changes), "a test")

    change(StatusChange(account="C0", status="suspended"))
    with pytest.raises(Refused, match="Client 0 is suspended"):
        take(database, "C0", "while")
    change(StatusChange(account="C0", status="active", was="suspended"))
    take(database, "C0", "after")
    of_c1 = [Wanted("C0-B", "BOX", "theirs")]
    with pytest.raises(Refused, match="no account"):
        database.run(assignments.assign, actor_of("C1"), of_c1)
    change(Move(account="C0-B", parent="C1"))
    database.run(assignments.assign, actor_of("C1"), of_c1)
    with pytest.raises(Refused, match="no product"):
        database.run(assignments.assign, OPERATOR, [Wanted("C0", "CRATE", "x")])
    new = {
        "products": DEVICES.splitlines()[0] + "\nCRATE,Crate,V,device,device,,,,\n",
        "lots": LOT.format(1, "").replace("BOX", "CRATE"),
    }
    database.run(data_import.load, COMMAND_LINE, read_source(as_folder(new, tmp_path / "more")))
    database.run(assignments.assign, OPERATOR, [Wanted("C0", "CRATE", "x")])
    verified(database)


@pytest.mark.parametrize(
    ("change", "refusal"),
    [
        (StatusChange(account="C0", status="suspended"), "Client 0 is suspended"),
        (Move(account="C0-B", parent="C1"), "no account"),
    ],
    ids=["suspended", "moved away"],
)
def test_a_taking_that_waited_is_judged_by_what_it_waited_for(
    database: Database, tmp_path: Path, change: Change, refusal: str
) -> None:
    """What it waited for at a counter is what stands, of the structure as of the counter."""
    small(database, tmp_path / "in")
    mine = actor_of("C0")
    database.run(assignments.assign, mine, [Wanted("C0-B", "BOX", "before")])  # this server knows the structure
    with ThreadPoolExecutor(1) as other, database.transaction() as tx:
        apply_changes(tx, COMMAND_LINE, [change], "a test")
        waiting = other.submit(database.run, assignments.assign, mine, [Wanted("C0-B", "BOX", "meanwhile")])
        wait_for_a_lock(database)
    with pytest.raises(Refused, match=refusal):
        waiting.result()
    verified(database)


def test_reserves_stay_usable_in_a_shortfall_until_nothing_is_left(database: Database, tmp_path: Path) -> None:
    """Supply 12 for reserves of 40: promises are not backed, so what is physically left stops the last."""
    small(database, tmp_path / "in", supply=12)
    for n in range(12):
        take(database, f"C{n % 4}-B", f"d{n}")
    with pytest.raises(Refused, match="limited by supply"):
        take(database, "C1-B", "one-more")
    database.run(assignments.release, OPERATOR, [Wanted("C0-B", "BOX", "d0")])
    take(database, "C1-B", "one-more")
    verified(database)


def test_grace_lets_through_until_its_deadline(database: Database, tmp_path: Path) -> None:
    small(database, tmp_path / "in")
    take(database, "C1-A", *(f"g{n}" for n in range(23)))
    assert headrooms(database)["C1-A"] == 2
    verified(database)
    database.clock.shift += timedelta(days=3)
    assert (headrooms(database)["C1"], headrooms(database)["C1-A"]) == (-3, 0)
    with pytest.raises(Refused, match="limited by Client 1's cap of 20"):
        take(database, "C1-B", "late")
    database.run(assignments.release, OPERATOR, [Wanted("C1-A", "BOX", f"g{n}") for n in range(3)])
    take(database, "C0-B", "elsewhere")
    verified(database)
    assert headrooms(database)["C1-A"] == 5, "back within the cap the clock is cleared"


def test_of_what_is_overcommitted_no_more_is_stored_than_there_is(database: Database, tmp_path: Path) -> None:
    """60 GB bought, 90 may be promised: whoever writes what goes beyond 60 is refused, two at once too."""
    files = {
        "accounts": TREE,
        "products": DEVICES.replace("BOX,Box,V,device,device", "DISK,Disk,V,storage,GB"),
        "lots": LOT.format(60, "").replace("BOX", "DISK").replace("EUR,,", "EUR,,150"),
    }
    database.run(data_import.load, COMMAND_LINE, read_source(as_folder(files, tmp_path / "in")))
    key = database.run(devices.make_key, COMMAND_LINE, "MSP", "DISK", "Filer")[1]

    def write(account: str, gigabytes: int) -> str:
        try:
            database.run(storage_systems.write, key, Where(account, category="files"), gigabytes * 10**9)
        except Refused as refused:
            return refused.problem.detail
        return "written"

    assert write("C0", 40) == "written"
    assert "limited by supply" in write("C1", 30)
    with ThreadPoolExecutor(4) as at_once:
        assert sorted(at_once.map(write, ("C0-A", "C1-A", "C2-A", "C3-A"), [9] * 4))[-2:] == ["written"] * 2
    assert write("C0-B", 3) != "written" == write("C0-B", 2)
    verified(database)


def test_a_lot_that_ends_counts_from_its_day_on(database: Database, tmp_path: Path) -> None:
    day = (database.clock.now() + timedelta(days=1)).date().isoformat()
    small(database, tmp_path / "in", last_day=day)
    take(database, "C3-B", "before")
    database.clock.shift += timedelta(days=2)
    with pytest.raises(Refused, match="limited by supply"):
        take(database, "C3-B", "after")
    verified(database)


def test_who_and_what_a_seat_can_be_for(shared_demo: Database) -> None:
    def seat(account: str, product: str, subject: str) -> Any:
        return shared_demo.run(assignments.assign, actor_of("GANNET"), [Wanted(account, product, subject)])

    with pytest.raises(Refused, match="is not a person of TERN-RENTS"):
        seat("TERN-RENTS", "LANTERN-MAIL", "quinn.corry")
    with pytest.raises(Refused, match="of this family only one"):
        seat("MARROW-HILLFOOT", "FIELD-CORE", "wren.ziegler")
    with pytest.raises(Refused, match="nothing of it is assigned"):
        seat("MARROW-HILLFOOT", "DEEPSHELF", "wren.ziegler")
    with pytest.raises(Refused) as elsewhere:
        shared_demo.run(assignments.assign, actor_of("OLDQUAY"), [Wanted("TERN-RENTS", "WATCHGLASS", "x")])
    assert elsewhere.value.problem.status == 404


def another_cap(tx: Transaction, cap: int) -> None:
    """A draft of one change made on what is there now, applied at once."""
    version = views.cell(tx, OPERATOR, "C3", "BOX").version
    terms = Terms(reserve=10, cap=cap)
    change = AllocationChange(
        account="C3", product="BOX", terms=terms, seen=version.id if version else None, was=terms_of(version)
    )
    drafts.apply_changes(tx, OPERATOR, [change], "another cap")


def _fight(url: str, settings: Settings, number: int, seconds: float, results: Any) -> None:
    """One client: takes, releases, and now and then changes a cap, all against the same few accounts."""
    database = Database(url, pool_size=1, settings=settings)
    chance = random.Random(number)
    mine: list[tuple[str, str]] = []
    refused = failed = 0
    until = time.monotonic() + seconds
    serial = 0
    while time.monotonic() < until:
        account = f"C{chance.randrange(4)}-{chance.choice('AB')}"
        try:
            roll = chance.random()
            if mine and 0.05 <= roll < 0.45:
                account, subject = mine.pop(chance.randrange(len(mine)))
                database.run(assignments.release, OPERATOR, [Wanted(account, "BOX", subject)])
            elif roll < 0.05:
                database.run(another_cap, chance.choice([20, 21, 22]))
            else:
                serial += 1
                subject = f"w{number}-{serial}"
                database.run(assignments.assign, OPERATOR, [Wanted(account, "BOX", subject)])
                mine.append((account, subject))
        except Refused:
            refused += 1
        except Exception as trouble:
            failed += 1
            results.put(("failed", repr(trouble)[:300]))
            break
    results.put(("done", (refused, failed)))


def _fought(
    at: Database, clients: int, seconds: float, meanwhile: Callable[[list[Any]], None] | None = None
) -> list[tuple[str, Any]]:
    context = multiprocessing.get_context("fork")
    results = context.Queue()
    workers = [
        context.Process(
            target=_fight, args=(at.engine.url.render_as_string(hide_password=False), at.settings, n, seconds, results)
        )
        for n in range(clients)
    ]
    for worker in workers:
        worker.start()
    if meanwhile:
        meanwhile(workers)
    for worker in workers:
        worker.join(60)
    told = []
    while not results.empty():
        told.append(results.get())
    return told


def within_limits(database: Database) -> None:
    with database.transaction() as tx:
        found = positions_at(tx, [pools.product(tx, "BOX")], tx.now)
    assert (found.settled.load <= found.hard).all()
    assert found.pool_used()[0] <= found.snapshot.supply.physical[0]


def test_32_clients_fight_for_the_last_seats(database: Database, tmp_path: Path) -> None:
    small(database, tmp_path / "in", supply=45)
    take(database, "C0-A", "first")
    database.engine.dispose()
    told = _fought(database, 32, 6)
    assert [each for each in told if each[0] == "failed"] == []
    assert sum(each[1][0] for each in told) > 0, "some were refused: there was a fight"
    within_limits(database)
    verified(database)


def test_counters_equal_the_assignments_after_clients_are_killed(database: Database, tmp_path: Path) -> None:
    small(database, tmp_path / "in", supply=45)
    database.engine.dispose()

    def kill(workers: list[Any]) -> None:
        for worker in workers:
            time.sleep(0.25)
            os.kill(worker.pid, signal.SIGKILL)

    _fought(database, 8, 30, kill)
    within_limits(database)
    verified(database)


def test_verify_says_where_a_counter_or_the_log_was_changed(database: Database, tmp_path: Path) -> None:
    small(database, tmp_path / "in")
    take(database, "C3-A", "laptop")
    verified(database)
    with database.engine.begin() as connection:
        connection.execute(sa.text("UPDATE counters SET `load` = `load` + 1 WHERE own = 1"))
        connection.execute(sa.text("UPDATE log_entries SET subject = 'tablet' WHERE subject = 'laptop'"))
    found = database.run(assignments.verify, COMMAND_LINE)
    assert ("counter: load", "BOX C3-A", "2", "1") in found
    assert any(what == "log" and "was changed" in where for what, where, _, _ in found)
