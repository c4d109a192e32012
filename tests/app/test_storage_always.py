"""Whatever is written, held, reported and moved, in whatever order and while time passes: every figure is what the
samples come to, what is held is what is reserved, and nothing is below nothing."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta
from typing import Any

import sqlalchemy as sa
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.assignments import usecases as checks
from fair_ladle.app.devices import usecases as devices
from fair_ladle.app.people_admin import acting
from fair_ladle.app.people_admin.leaving import Leaving
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.people_admin.seat_acts import ActOptions
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.storage import folders, left_behind
from fair_ladle.app.storage.folders import FolderTerms
from fair_ladle.app.storage_systems import usecases as systems
from fair_ladle.app.storage_systems.usecases import Report, Where
from fair_ladle.jobs import AgeStored, DeleteFolders, DeleteLeftBehind, EndReservations
from tests.app.test_seats_always import EXAMPLES
from tests.conftest import do_job

P, GB, OLDQUAY = "DEEPSHELF", 10**9, Actor("Maren", "", "OLDQUAY")
ACCOUNTS = ("OLDQUAY", "OLDQUAY-CREW", "OLDQUAY-HARBOUR")
PEOPLE = ("elke.amsel", "rafe.ziegler", "greta.iver", "tomas.calloway")
CODES = ("A", "B")

account, name, code = st.sampled_from(ACCOUNTS), st.sampled_from(PEOPLE), st.sampled_from(CODES)
size = st.sampled_from((0, 1, 499_999, 500_000, GB, 7 * GB + 130_000))
place = st.one_of(
    st.builds(Where, account, category=st.sampled_from(("mail", "media"))),
    st.builds(Where, account, folder=code, part=st.none() | st.just("x")),
    st.builds(Where, st.none() | account, person=name, part=st.none() | st.just("x")),
)
minutes = st.sampled_from((0, 1, 60, 3 * 24 * 60))
leaving = st.one_of(
    st.builds(Leaving, st.sampled_from(("keep", "take"))),
    st.builds(Leaving, st.just("person"), name),
    st.builds(Leaving, st.just("folder"), code),
    st.builds(Leaving, st.just("delete"), days=st.just(2)),
)
STEPS = st.lists(
    st.one_of(
        st.tuples(st.sampled_from(("write", "take away")), place, size),
        st.tuples(st.just("reserve"), place, size, st.sampled_from((5, 600, 86_400))),
        st.tuples(st.sampled_from(("commit", "cancel")), st.integers(0, 3), st.none() | size),
        st.tuples(st.just("report"), st.lists(st.tuples(place, minutes, size), min_size=1, max_size=4)),
        st.tuples(st.just("make"), account, code, st.none() | st.just(5_000), st.booleans()),
        st.tuples(st.just("move"), account, code, account),
        st.tuples(st.just("set"), account, code, st.sampled_from(("open", "archived", "deleted"))),
        st.tuples(st.just("give"), account, name, name),
        st.tuples(st.sampled_from(("remove", "move people", "restore")), name, account, leaving),
        st.tuples(st.just("wait"), st.sampled_from((1, 90, 24 * 60, 31 * 24 * 60))),
    ),
    min_size=4,
    max_size=12,
)


def step(database: Database, key: str, tokens: list[str], what: str, *more: Any) -> None:
    """Do one of these things; the use-case, and what it is asked."""
    now = database.clock.now()
    works: dict[str, Callable[[], Any]] = {
        "write": lambda: database.run(systems.write, key, *more),
        "take away": lambda: database.run(systems.write, key, more[0], -more[1]),
        "reserve": lambda: tokens.append(database.run(systems.reserve, key, *more)[0]),
        "commit": lambda: database.run(systems.commit, key, tokens[more[0] % len(tokens)], more[1]),
        "cancel": lambda: database.run(systems.cancel, key, tokens[more[0] % len(tokens)]),
        "report": lambda: database.run(
            systems.report, key, [Report(where, now - timedelta(minutes=back), each) for where, back, each in more[0]]
        ),
        "make": lambda: database.run(
            folders.put, OLDQUAY, P, more[0], more[1], FolderTerms("F", None, more[2], more[3])
        ),
        "move": lambda: database.run(folders.move, OLDQUAY, P, *more),
        "set": lambda: database.run(folders.set_state, OLDQUAY, P, *more),
        "give": lambda: database.run(left_behind.move, OLDQUAY, P, *more, None),
        "wait": lambda: setattr(database.clock, "shift", database.clock.shift + timedelta(minutes=more[0])),
    }

    def act() -> None:
        done = "move" if what == "move people" else what
        chosen = Leaving() if what == "restore" else more[2]
        options = ActOptions(to_account=more[1], leaving=chosen)
        database.run(acting.act, OLDQUAY, done, Asked(usernames=(more[0],)), options)

    if what in ("commit", "cancel") and not tokens:
        return
    works.get(what, act)()


@settings(max_examples=EXAMPLES, derandomize=True, suppress_health_check=[HealthCheck.function_scoped_fixture])
@example([("wait", 90), ("write", Where("OLDQUAY-HARBOUR", category="media"), 500_000), ("wait", 24 * 60)])
@given(STEPS)
def test_storage_adds_up_whatever_is_done(new_demo: Callable[[], Database], steps: list[Any]) -> None:
    database, tokens = new_demo(), list[str]()
    key = database.run(devices.make_key, COMMAND_LINE, "OLDQUAY", P, "a test")[1]
    for each in steps:
        try:
            step(database, key, tokens, *each)
        except Refused:
            continue
    database.run(assignments.rebuild_stale)
    for job in (EndReservations(), DeleteFolders(), DeleteLeftBehind(), AgeStored()):
        do_job(database, job)
    assert database.run(checks.verify, COMMAND_LINE) == []
    of_product = "product_id = (SELECT id FROM products WHERE code = :code)"
    reserved = f"SELECT SUM(bytes) FROM storage_reservations WHERE ended_at IS NULL AND {of_product}"
    newest = (
        f"SELECT account_id, category, bytes FROM storage_samples WHERE {of_product} AND category LIKE '%reserved' "
        "ORDER BY at"
    )
    with database.engine.connect() as connection:
        found = connection.execute(sa.text(newest), {"code": P})
        held = {(row.account_id, row.category): row.bytes for row in found}
        open_ones = connection.scalar(sa.text(reserved), {"code": P})
        below = connection.scalar(sa.text("SELECT COUNT(*) FROM storage_samples WHERE bytes < 0"))
    deleted = any(each[0] == "set" and each[3] == "deleted" for each in steps)
    assert below == 0 and (deleted or sum(held.values()) == int(open_ones or 0))
