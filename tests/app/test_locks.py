"""Locks as they are written down in the architecture: one table, by key, people before what is judged of them; and two
connections each that would break it."""

from __future__ import annotations

import threading
from collections import defaultdict
from collections.abc import Callable
from typing import Any

import pytest
import sqlalchemy as sa
from fastapi.testclient import TestClient

from fair_ladle.app.allocations import views
from fair_ladle.app.allocations.tables import counters
from fair_ladle.app.assignments import service as assignment_service
from fair_ladle.app.assignments import store as assignments_store
from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import AllocationChange, Terms
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.people_admin import acting
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.people_admin.seat_acts import ActOptions
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.arrays import in_parts, numbers
from fair_ladle.app.plumbing.database import AskedDatabase, Database, Transaction
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools
from fair_ladle.app.sign_in import usecases as sign_in
from fair_ladle.main import create_app
from tests.conftest import actor_of
from tests.statements import faults, hearing, that_hold

OLDQUAY = actor_of("OLDQUAY")
PASSWORD = "correct-ferry-staple"


@pytest.mark.parametrize(
    ("statement", "wrong"),
    [
        ("SELECT a.id FROM a JOIN b ON b.id = a.id WHERE a.id = 1 FOR UPDATE", "a locking read of several tables"),
        ("SELECT a.id FROM a, b WHERE a.id = 1 FOR UPDATE", "a locking read of several tables"),
        ("SELECT id FROM a ORDER BY id FOR UPDATE", "a lock without a key"),
        ("UPDATE a INNER JOIN b ON b.id = a.id SET a.x = 1", "an update that joins"),
        ("SELECT id, (SELECT n FROM b, c) FROM a WHERE id IN (1, 2) FOR UPDATE", None),
        ("UPDATE a SET x = (SELECT y FROM b JOIN c ON b.id = c.id) WHERE id = 1", None),
    ],
)
def test_the_check_itself_can_fail(statement: str, wrong: str | None) -> None:
    assert faults(statement) == ([wrong] if wrong else [])


def both(one: Callable[[], Any], other: Callable[[], Any]) -> list[str]:
    """Do two things at the same moment; what each came to."""
    start, found = threading.Barrier(2), ["", ""]

    def go(place: int, do: Callable[[], Any]) -> None:
        start.wait()
        try:
            do()
            found[place] = "done"
        except Refused as refused:
            found[place] = refused.problem.detail

    threads = [threading.Thread(target=go, args=(n, do)) for n, do in enumerate((one, other))]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return found


def free_person(database: Database) -> str:
    """Somebody of the client's crew who has nothing of the family."""
    with database.engine.connect() as connection:
        found = connection.scalar(
            sa.text(
                "SELECT p.username FROM people p JOIN accounts a ON a.id = p.account_id WHERE a.code = 'OLDQUAY-CREW' AND"
                " p.status = 'active' AND NOT EXISTS (SELECT 1 FROM assignments s JOIN products q ON q.id = s.product_id"
                " WHERE s.subject = p.username AND q.code LIKE 'FIELD%' AND s.ends IS NULL) ORDER BY p.username LIMIT 1"
            )
        )
    assert found
    return str(found)


def seat(database: Database, username: str, product: str) -> Callable[[], Any]:
    return lambda: database.run(assignments.assign, OLDQUAY, [Wanted("OLDQUAY-CREW", product, username)])


def test_of_a_family_one_however_many_ask_at_once(demo: Database) -> None:
    username = free_person(demo)
    for _ in range(10):
        found = both(seat(demo, username, "FIELD-CORE"), seat(demo, username, "FIELD-FULL"))
        assert found.count("done") == 1, found
        mine = "FIELD-CORE" if found[0] == "done" else "FIELD-FULL"
        demo.run(assignments.release, OLDQUAY, [Wanted("OLDQUAY-CREW", mine, username)])
    assert demo.run(assignments.verify, COMMAND_LINE) == []


def test_a_machine_is_one_accounts_however_many_ask_at_once(demo: Database) -> None:
    """Two accounts that share no counter below their cushions."""

    def take(account: str) -> Callable[[], Any]:
        return lambda: demo.run(assignments.assign, COMMAND_LINE, [Wanted(account, "WATCHGLASS", "same-till")])

    product = demo.run(pools.product, "WATCHGLASS")
    clients = ("MARROW", "NORTHFOLD", "FENWICK", "LARKHILL", "TERN")
    other = next(each for each in clients if demo.run(assignment_service.room, COMMAND_LINE, each, product).real > 0)
    for _ in range(10):
        found = both(take("OLDQUAY-CREW"), take(other))
        assert found.count("done") == 1 and any("has Watchglass Guard already" in each for each in found), found
        account = "OLDQUAY-CREW" if found[0] == "done" else other
        demo.run(assignments.release, COMMAND_LINE, [Wanted(account, "WATCHGLASS", "same-till")])
    assert demo.run(assignments.verify, COMMAND_LINE) == []


def test_a_seat_and_a_suspension_come_one_after_the_other(demo: Database) -> None:
    username = free_person(demo)
    who = Asked(usernames=(username,))
    for _ in range(6):
        found = both(
            seat(demo, username, "FIELD-CORE"),
            lambda: demo.run(acting.act, OLDQUAY, "suspend", who, ActOptions(keep_seats=False)),
        )
        with demo.engine.connect() as connection:
            held = connection.scalar(
                sa.text("SELECT COUNT(*) FROM assignments WHERE subject = :u AND ends IS NULL"), {"u": username}
            )
        assert held == 0, f"nobody suspended has a seat: {found}"
        demo.run(acting.act, OLDQUAY, "resume", who)
        demo.run(acting.act, OLDQUAY, "suspend", who, ActOptions(keep_seats=False))
        demo.run(acting.act, OLDQUAY, "resume", who)


def test_some_counters_wait_for_nobody_who_holds_another_or_the_pool(demo: Database) -> None:
    """Locked and written; whatever the server knows of how many counters there are: made anew it knows nothing."""
    with demo.engine.connect() as holding, demo.engine.connect() as locking:
        cells = sa.select(counters.c.pool_id, counters.c.account_id).order_by(counters.c.pool_id)
        of_pool: dict[int, list[int]] = defaultdict(list)
        for pool_id, account_id in holding.execute(cells).all():
            of_pool[pool_id].append(account_id)
        holding.execute(sa.text("DELETE FROM mysql.innodb_index_stats WHERE table_name = 'counters'"))
        holding.execute(sa.text("FLUSH TABLE counters"))
        pool_id, accounts = max(of_pool.items(), key=lambda each: len(each[1]))
        middle = accounts.pop(len(accounts) // 2)
        assert [row.account_id for row in assignments_store.lock(holding, pool_id, [middle])] == [middle]
        locking.execute(sa.text("SET SESSION innodb_lock_wait_timeout = 1"))
        for some in (accounts[:2], accounts[::2], accounts):
            assert [row.account_id for row in assignments_store.lock(locking, pool_id, some)] == some
        holding.execute(sa.text("SELECT id FROM pools WHERE id > 0 FOR UPDATE"))
        holding.execute(sa.text("SELECT id FROM accounts WHERE id > 0 FOR UPDATE"))
        cells = [{"pool_id": pool_id, "account_id": each} for each in accounts]
        assignments_store.write(locking, [{**cell, "own": 0, "load": 1, "past_cap_since": None} for cell in cells])
        assignments_store.keep(locking, [{**cell, "cap": 9} for cell in cells])
        written = sa.select(sa.func.count()).where(counters.c.pool_id == pool_id, counters.c.cap == 9)
        assert locking.scalar(written) == len(accounts)


def test_screens_and_previews_hold_nobody_back(new_demo: Callable[[], Database]) -> None:
    database = new_demo()
    for account in ("GANNET", "OLDQUAY"):
        database.run(sign_in.give_sign_in, COMMAND_LINE, f"{account}@x.example", account, account, PASSWORD)
    for account in ("GANNET", "OLDQUAY"):
        client = TestClient(create_app(database))  # not entered: no jobs beside
        client.app.state.database = database  # type: ignore[attr-defined]
        client.post("/api/sign-in", json={"email": f"{account}@x.example", "password": PASSWORD}).raise_for_status()
        for path in (
            "/api/today",
            "/api/allocations",
            "/api/allocations/cell?account=OLDQUAY-CREW&product=FIELD-CORE",
            "/api/pools",
            "/api/people",
            "/api/groups",
            "/api/reclaim/unseen",
            "/api/reclaim",
            "/api/entitlements/queue",
            "/api/statements?month=2026-10",
            "/api/requests",
            "/api/log",
            "/api/devices",
            "/api/drafts",
        ):
            with hearing() as heard:
                answer = client.get(path)
            assert answer.status_code in (200, 404), (path, answer.text)
            assert that_hold(heard) == [], path


def test_who_asks_and_what_is_answered_are_of_one_instant(demo: Database) -> None:
    number = sa.text("SELECT number FROM generations WHERE name = 'rates'")

    def read(tx: Any) -> tuple[int, int]:
        return int(tx.connection.execute(number).scalar()), int(tx.connection.connection.thread_id())

    first, lost, unused = requests = [AskedDatabase(demo) for _ in range(3)]
    began = [each.begin_snapshot(read)[0] for each in requests]
    demo.run(generations.renew, "rates")
    assert first.snapshot(read)[0] == began[0], "another instant than that of who asks"
    assert first.snapshot(read)[0] != began[0], "an old instant, used again"

    def read_lost(tx: Any) -> int:
        found, thread = read(tx)
        if found == began[1]:
            demo.run(lambda other: other.connection.execute(sa.text(f"KILL {thread}")))
            tx.connection.execute(number)
        return found

    assert lost.snapshot(read_lost) != began[1], "a lost connection is not asked again"
    unused.run(lambda tx: None)  # and needs one connection at a time
    assert demo.engine.pool.checkedout() == 0  # type: ignore[attr-defined]
    with pytest.raises(sa.exc.OperationalError, match="READ ONLY"):
        demo.snapshot(generations.renew, "rates")


def test_a_generation_is_the_commits_not_the_ids_order(demo: Database) -> None:
    """Two who raise one: what the later to commit wrote is under another number than what the first left."""
    with demo.engine.connect() as connection:
        seen = [connection.execute(sa.text("SELECT number FROM generations WHERE name = 'rates'")).scalar()]
    first_has_it, first_may_commit = threading.Event(), threading.Event()

    def slow(tx: Any) -> None:
        generations.renew(tx, "rates")
        first_has_it.set()
        first_may_commit.wait(5)

    thread = threading.Thread(target=demo.run, args=(slow,))
    thread.start()
    assert first_has_it.wait(5)
    quick = threading.Thread(target=demo.run, args=(lambda tx: generations.renew(tx, "rates"),))
    quick.start()
    quick.join(0.5)
    assert quick.is_alive(), "it waits for the first: the row is its lock"
    first_may_commit.set()
    thread.join()
    quick.join()
    with demo.engine.connect() as connection:
        seen.append(connection.execute(sa.text("SELECT number FROM generations WHERE name = 'rates'")).scalar())
    assert seen[0] != seen[1]


def held_and_version(database: Database, account: str, product: str) -> tuple[int, Any]:
    with database.transaction() as tx:
        found = views.cell(tx, COMMAND_LINE, account, product)
        return int(found.positions.settled.held[found.row, 0]), found.version


def terms(database: Database, account: str, product: str, **other: Any) -> Callable[[], Any]:
    """Other terms for an allocation, as they are applied from a draft."""
    _, version = held_and_version(database, account, product)
    was = terms_of(version)
    change = AllocationChange(
        account=account,
        product=product,
        terms=(was or Terms()).model_copy(update=other),
        seen=version.id if version else None,
        was=was,
    )
    return lambda: database.run(drafts.apply_changes, COMMAND_LINE, [change], "a test")


def test_two_promises_of_the_same_stock_come_one_after_the_other(demo: Database) -> None:
    """Drafts lock only the ways up of what they change: where those meet, the second sees what the first has done."""
    clients = ("TERN", "PENNANT")
    with demo.transaction() as tx:
        pool = views.cell(tx, COMMAND_LINE, "GANNET", "LANTERN-MAIL").positions
        free = int(pool.pool_standing()[0])
    for _ in range(8):
        held = [held_and_version(demo, client, "LANTERN-MAIL")[0] for client in clients]
        promised = [
            terms(demo, client, "LANTERN-MAIL", reserve=now + free * 2 // 3, cap=None)
            for client, now in zip(clients, held, strict=True)
        ]
        found = both(*promised)
        assert found.count("done") == 1 and any("would be short by" in each for each in found), found
        back = clients[found.index("done")]
        terms(demo, back, "LANTERN-MAIL", reserve=0, cap=None)()
    assert demo.run(assignments.verify, COMMAND_LINE) == []


def test_a_seat_and_a_lower_cap_come_one_after_the_other(demo: Database) -> None:
    username = free_person(demo)
    for _ in range(8):
        with demo.transaction() as tx:
            found_cell = views.cell(tx, COMMAND_LINE, "OLDQUAY-CREW", "FIELD-CORE")
            load = int(found_cell.positions.settled.load[found_cell.row, 0])
        lower = terms(demo, "OLDQUAY-CREW", "FIELD-CORE", cap=load, reserve=0, at_cap="block")
        found = both(seat(demo, username, "FIELD-CORE"), lower)
        assert found.count("done") == 1, found
        if found[0] == "done":
            demo.run(assignments.release, OLDQUAY, [Wanted("OLDQUAY-CREW", "FIELD-CORE", username)])
        terms(demo, "OLDQUAY-CREW", "FIELD-CORE", cap=load + 3)()
    assert demo.run(assignments.verify, COMMAND_LINE) == []


def test_a_connection_lost_while_numbers_are_read_is_asked_again(demo: Database) -> None:
    tries: list[int] = []

    def read(tx: Transaction) -> int:
        tries.append(tx.connection.execute(sa.text("SELECT CONNECTION_ID()")).scalar_one())
        parts = in_parts(tx.connection, sa.text("SELECT seq, seq FROM seq_1_to_2000000"))
        found = len(next(parts)) + len(next(parts))
        if len(tries) == 1:
            demo.run(lambda other: other.connection.execute(sa.text(f"KILL {tries[0]}")))
        return found + sum(len(rows) for rows in parts)

    assert demo.snapshot(read) == 2_000_000 and len(tries) == 2
    with demo.transaction() as tx:
        assert numbers(tx.connection, sa.text("SELECT seq FROM seq_1_to_3")).tolist() == [[1, 2, 3]]
        assert numbers(tx.connection, sa.text("SELECT seq, seq FROM seq_1_to_3 WHERE seq > 3")).shape == (2, 0)
