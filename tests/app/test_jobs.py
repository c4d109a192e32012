"""The schedule: each job once however many servers there are, and one failure stops nothing else."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable
from datetime import timedelta
from ipaddress import ip_network
from typing import ClassVar

import pytest
import sqlalchemy as sa

from fair_ladle.app.plumbing import outbox
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.schedule import Job, Schedule, failed, run_once
from fair_ladle.app.plumbing.settings import Settings
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.connectors.mail import Smtp
from fair_ladle.demo.load import STARTS_AT
from fair_ladle.jobs import SendMail, jobs
from tests.conftest import do_job


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
