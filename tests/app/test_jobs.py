"""The schedule: each job once however many servers there are, and one failure stops nothing else."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, timedelta
from ipaddress import ip_network
from typing import Any, ClassVar

import numpy as np
import pytest
import sqlalchemy as sa

from fair_ladle.app.assignments import claims
from fair_ladle.app.plumbing import cache, outbox
from fair_ladle.app.plumbing.database import TOO_LONG, Database, code_of
from fair_ladle.app.plumbing.own_server import OwnServer
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.plumbing.schedule import Job, Schedule, failed, run_once
from fair_ladle.app.plumbing.settings import Settings
from fair_ladle.app.pools import service as pools
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.app.usage.tables import assignments as held
from fair_ladle.connectors.mail import Smtp
from fair_ladle.demo.load import STARTS_AT
from fair_ladle.jobs import DropEndedClaims, SendMail, jobs
from tests.conftest import do_job, new_url


class Work(Job):
    """Notes that it was begun, and does what a test says."""

    name: ClassVar[str] = "work"
    every: ClassVar[timedelta] = timedelta(minutes=1)
    lease: ClassVar[timedelta] = timedelta(seconds=2)

    def __init__(self, does: Callable[[Database, Callable[[], bool]], object] = lambda *_: None):
        self.begun: list[int] = []
        self._does = does

    def run(self, database: Database, going_on: Callable[[], bool]) -> None:
        self.begun.append(1)
        self._does(database, going_on)


def test_a_job_is_done_once_however_many_servers_there_are(database: Database) -> None:
    work = Work()
    for _ in range(2):
        servers = [threading.Thread(target=run_once, args=(database, work, f"s{n}")) for n in range(8)]
        for server in servers:
            server.start()
        for server in servers:
            server.join()
    assert len(work.begun) == 1
    database.clock.shift += timedelta(minutes=2)
    assert run_once(database, work, "s0") and len(work.begun) == 2


def test_a_job_under_way_keeps_its_lease_and_one_whose_server_is_gone_is_taken_over(database: Database) -> None:
    release = threading.Event()
    long = Work(lambda *_: release.wait(20))
    first = threading.Thread(target=run_once, args=(database, long, "s0"))
    first.start()
    while not long.begun:
        time.sleep(0.01)
    database.clock.shift += timedelta(minutes=2)
    time.sleep(1)  # a heartbeat moves the lease on to the new time
    assert not run_once(database, Work(), "s1"), "it is due, and its server is at it"
    release.set()
    first.join()
    with database.engine.begin() as connection:  # a server that claimed it and was killed
        connection.execute(
            sa.text("UPDATE jobs SET holder = 'gone', due_at = :at, leased_until = :at"),
            {"at": (database.clock.now() - timedelta(seconds=1)).replace(tzinfo=None)},
        )
    taken = Work()
    assert run_once(database, taken, "s1") and taken.begun


def test_a_failing_item_is_set_aside_with_its_reason_and_the_rest_goes_on(database: Database) -> None:
    done: list[str] = []

    def work(item: str) -> None:
        if item == "poison":
            raise KeyError("a bug")
        done.append(item)

    job = Work()
    for _ in range(2):
        job.each(database, ["a", "poison", "b"], work, lambda: True)
    assert done == ["a", "b", "a", "b"], "set aside, it is not tried again at once"
    with database.transaction() as tx:
        assert failed(tx) == [("work: poison", "KeyError: 'a bug'")]
    database.clock.shift += timedelta(minutes=2)
    job.each(database, ["poison"], lambda item: done.append(item), lambda: True)
    with database.transaction() as tx:
        assert done[-1] == "poison" and failed(tx) == []


def test_a_job_that_breaks_is_told_and_long_work_delays_no_other(database: Database) -> None:
    release = threading.Event()

    class Long(Work):
        name: ClassVar[str] = "long"

    class Broken(Work):
        name: ClassVar[str] = "broken"

    def breaks(*_: object) -> None:
        raise KeyError("a bug")

    sound, long, broken = Work(), Long(lambda *_: release.wait(20)), Broken(breaks)
    schedule = Schedule(database, [long, broken, sound])
    schedule.start()
    until = time.monotonic() + 15
    while not (sound.begun and broken.begun and long.begun) and time.monotonic() < until:
        time.sleep(0.05)
    assert sound.begun, "it does not wait for the long one"
    release.set()
    schedule.stop()
    with database.transaction() as tx:
        assert ("broken", "KeyError: 'a bug'") in failed(tx)


def test_an_empty_installation_has_nothing_to_do_and_no_error(
    database: Database, caplog: pytest.LogCaptureFixture
) -> None:
    with caplog.at_level(logging.WARNING):
        for job in jobs(Settings.read()):
            assert do_job(database, job), job.name
    with database.transaction() as tx:
        assert failed(tx) == [] and caplog.records == []


def test_mail_is_handed_in_outside_any_transaction_and_once(database: Database) -> None:
    """A slow relay holds no lock; when the note that it was sent is lost with its connection, it is not sent again."""
    with database.transaction() as tx:
        outbox.write(tx, "ada@x.example", "Join", "https://x.example/join/secret")
    handed_in: list[str] = []

    def deliver(to_address: str, subject: str, body: str, enclosures: object) -> None:
        handed_in.append(body)
        with database.engine.begin() as other:  # would wait for a lock that the sender held
            other.execute(sa.text("SET innodb_lock_wait_timeout = 1"))
            mail = other.scalar(sa.text("SELECT id FROM outbox WHERE to_address = 'ada@x.example'"))
            other.execute(sa.text("SELECT id FROM outbox WHERE id = :mail FOR UPDATE"), {"mail": mail}).all()
        with database.engine.connect() as kills:
            mine = kills.execute(sa.text("SELECT CONNECTION_ID()")).scalar()
            for (other_id,) in kills.execute(
                sa.text("SELECT id FROM information_schema.processlist WHERE id <> :mine AND db = DATABASE()"),
                {"mine": mine},
            ).all():
                kills.exec_driver_sql(f"KILL {other_id}")

    assert outbox.send(database, deliver) == 1 and outbox.send(database, deliver) == 0
    assert handed_in == ["https://x.example/join/secret"]
    with database.engine.connect() as connection:
        assert connection.scalar(sa.text("SELECT body FROM outbox")) == "", "the link is kept nowhere"


def test_mail_waits_where_nothing_answers(database: Database) -> None:
    with database.transaction() as tx:
        outbox.write(tx, "ada@x.example", "Hello", "x")
    do_job(database, SendMail(Smtp("smtp://127.0.0.1:1", "us@x.example", (ip_network("127.0.0.1"),))))
    with database.engine.connect() as connection:
        row = connection.execute(sa.text("SELECT due_at, sent_at, taken_at, trouble FROM outbox")).one()
    assert row.due_at is not None and row.sent_at is None and row.taken_at is None and "refused" in row.trouble


def test_a_demo_begun_again_goes_on_after_what_its_schedule_last_did(demo: Database) -> None:
    work, at = Work(), demo.clock.now() + timedelta(hours=2)
    demo.clock.set_to(at)
    run_once(demo, work, "s0")
    went_on = demo.run(sign_in_service.start_demo_clock, STARTS_AT)
    assert went_on >= at, "else nothing would be done until the time is there again"
    demo.clock.set_to(went_on + timedelta(minutes=1))
    assert run_once(demo, work, "s0")


def test_a_clock_that_jumped_ahead_and_back_stops_no_job(database: Database) -> None:
    work = Work()
    database.clock.shift += timedelta(days=400)
    run_once(database, work, "s0")
    database.clock.shift -= timedelta(days=400)
    assert run_once(database, work, "s0"), "it is not due only in a year"


def test_claims_that_ended_by_themselves_are_given_up_from_the_last_look_on(demo: Database) -> None:
    job, claimed = DropEndedClaims(), sa.text("SELECT subject FROM claims ORDER BY subject")

    def ends_in_an_hour() -> str:
        with demo.engine.begin() as connection:
            found = connection.execute(
                sa.text(
                    "SELECT a.id, a.subject FROM claims c JOIN assignments a ON a.subject = c.subject "
                    "WHERE a.ends IS NULL GROUP BY a.subject HAVING COUNT(*) = 1 LIMIT 1"
                )
            ).one()
            ends = demo.clock.now() + timedelta(hours=1)
            connection.execute(
                sa.text("UPDATE assignments SET ends = :ends WHERE id = :id"),
                {"ends": ends.astimezone(UTC).replace(tzinfo=None), "id": found.id},
            )
        return str(found.subject)

    def left() -> list[str]:
        with demo.engine.connect() as connection:
            return list(connection.scalars(claimed))

    for _ in range(2):
        subject, before = ends_in_an_hour(), left()
        job.run(demo, lambda: True)
        assert left() == before, "it has not ended yet"
        demo.clock.set_to(demo.clock.now() + timedelta(hours=1, minutes=1))
        job.run(demo, lambda: True)
        assert left() == [each for each in before if each != subject]


def test_a_claim_that_is_taken_over_meanwhile_is_not_given_up(demo: Database) -> None:
    """The job has read that it ended, and waits for whoever takes it over."""
    one = sa.text("SELECT a.* FROM claims c JOIN assignments a ON a.subject = c.subject WHERE a.ends IS NULL LIMIT 1")
    with demo.engine.begin() as connection:
        found = connection.execute(one).one()
        of_subject = sa.update(held).where(held.c.subject == found.subject)
        connection.execute(of_subject.values(ends=demo.clock.now() + timedelta(seconds=1)))
    demo.clock.set_to(demo.clock.now() + timedelta(minutes=1))
    with ThreadPoolExecutor(1) as other, demo.transaction() as tx:
        product = next(each for each in pools.products(tx) if each.id == found.product_id)
        claims.take(tx, [(product, found.subject)])
        row = {name: getattr(found, name) for name in ("product_id", "account_id", "subject")}
        tx.connection.execute(sa.insert(held).values(**row, begins=tx.now))
        given_up = other.submit(DropEndedClaims().run, demo, lambda: True)
        time.sleep(1)
        assert not given_up.done()
        tx.connection.commit()
        given_up.result(20)
    with demo.engine.connect() as connection:
        there = connection.scalar(
            sa.text("SELECT COUNT(*) FROM claims WHERE subject = :subject"), {"subject": found.subject}
        )
    assert there == 1


def test_what_is_dear_is_worked_out_one_after_the_other(monkeypatch: pytest.MonkeyPatch) -> None:
    """Days after an intake, say, each for somebody else: together they would take all of the machine."""
    monkeypatch.setattr(cache, "TURN_SECONDS", 0.05)
    kept: cache.Cache[int] = cache.Cache(8, megabytes=1, at_once=1)
    begun, goes_on = threading.Event(), threading.Event()

    def slow() -> int:
        begun.set()
        goes_on.wait(10)
        return 1

    with ThreadPoolExecutor(1) as other:
        first = other.submit(kept.get, "one", slow)
        begun.wait(10)
        with pytest.raises(Refused) as refused:
            kept.get("two", lambda: 2)
        goes_on.set()
        assert (refused.value.problem.status, first.result()) == (503, 1)
    assert kept.get("two", lambda: 2) == 2, "nothing is kept of a refusal"


def test_what_is_kept_is_bounded_by_its_size() -> None:
    """Of five days at 400 kB two fit into a megabyte; one that takes more than that by itself is kept alone."""
    kept: cache.Cache[dict[str, Any]] = cache.Cache(8, megabytes=1)
    made: list[int] = []

    def day(number: int, figures: int = 50_000) -> dict[str, Any]:
        made.append(number)
        return {"figures": np.zeros(figures, dtype=np.int64), "names": ("Old Quay", "Hazel")}

    for number in range(5):
        kept.get(number, lambda number=number: day(number))
    for number in (4, 3, 4, 2):
        kept.get(number, lambda number=number: day(number))
    assert made == [0, 1, 2, 3, 4, 2], "the two that were asked for last are there"
    for _ in range(2):
        kept.get("large", lambda: day(7, 500_000))
    assert made[6:] == [7]
    kept.get(4, lambda: day(4))
    assert made[7:] == [4], "nothing else is kept beside it"


def test_a_statement_nobody_waits_for_is_given_up_by_the_server_too(server: OwnServer) -> None:
    impatient = Database(new_url(server), read_seconds=2)
    with pytest.raises(sa.exc.OperationalError) as trouble, impatient.engine.connect() as connection:
        connection.execute(sa.text("SELECT SLEEP(30) FROM information_schema.tables"))
    assert code_of(trouble.value) == TOO_LONG
