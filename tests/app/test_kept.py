"""What is kept of months and days that are over holds until a fact of theirs changes, and is then made anew."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import UTC, date, datetime, timedelta
from decimal import Decimal
from pathlib import Path

import numpy as np
import pytest
import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import keeping, kept, store
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.allocations.positions import positions_at
from fair_ladle.app.allocations.snapshots import end_of
from fair_ladle.app.allocations.tables import kept_days
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.drafts.change_types import NewLot, StatusChange
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.cache import Cache
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools
from fair_ladle.app.statements import buyers, totals
from fair_ladle.app.statements import store as statements_store
from fair_ladle.app.statements import views as statements
from fair_ladle.app.statements.corrected import packed_weights
from fair_ladle.app.statements.kept_readings import CORRECTIONS, AccountDays, KeptReadings
from fair_ladle.app.statements.tables import kept_pools, kept_readings
from fair_ladle.app.usage import service as usage
from fair_ladle.connectors.sheets_in import read_source
from fair_ladle.core.calendar import month_of
from fair_ladle.jobs import KeepDays, KeepMonths
from tests import odd_intake
from tests.app.test_account_life import admin, applied
from tests.conftest import do_job

MONTHS = [date(2026, 11, 1), date(2026, 10, 1), date(2026, 9, 1)]


@pytest.fixture(autouse=True)
def nothing_in_memory(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    monkeypatch.setattr(totals._totals, "get", lambda key, make: make())
    yield


def outdated(database: Database) -> set[tuple[str, date]]:
    return database.snapshot(lambda tx: {(each.code, first) for each, first, _ in totals.outdated(tx)})


def kept_agrees(database: Database) -> None:
    """What is kept is what the facts come to; and it is what is shown."""
    with database.transaction() as tx:
        for first in MONTHS:
            last = month_of(f"{first:%Y-%m}")[1]
            for product in pools.products(tx):
                worked_out = totals.worked_out(tx, product, first, last)
                assert totals.product_totals(tx, product, first, last) == worked_out
                for buyer in ["TERN", "OLDQUAY", "NOBODY"]:
                    costs, _ = totals.costs_of(tx, [product], first, last, buyer)
                    assert costs == ({product.code: worked_out.costs[buyer]} if buyer in worked_out.amounts else {})


def test_what_a_month_comes_to_is_kept_until_something_of_it_changes(
    demo: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    months = [date(2025, month, 1) for month in (11, 12)] + [date(2026, month, 1) for month in range(1, 12)]
    everything = {(each.code, first) for each in demo.run(pools.products) for first in months}
    assert outdated(demo) == everything
    with monkeypatch.context() as patched:
        patched.setattr(totals, "LARGE", 1)
        with pytest.raises(Refused, match=r"October 2026 are still being calculated \(0 of 9 products are done\)"):
            demo.snapshot(buyers.overview, admin(demo, "GANNET"), "2026-10")
        with pytest.raises(Refused, match="still being calculated. Ask") as told:
            demo.snapshot(buyers.overview, admin(demo, "OLDQUAY"), "2026-10")
        assert "9" not in told.value.problem.detail, "how many products there are is the operator's"
        assert demo.snapshot(buyers.overview, admin(demo, "GANNET"), "2025-10").buyers == (), "no job keeps it"
    whose = (admin(demo, "GANNET"), "TERN", "2026-10")
    early = demo.snapshot(statements.statement_view, *whose, waits=False)
    waited = demo.snapshot(statements.statement_view, *whose)
    assert early.costs_wait and {line.cost for sheet in early.sheets for line in sheet.lines} == {None}
    with demo.transaction() as tx:
        old = {"product_id": pools.product(tx, "COLDVAULT").id, "first_day": date(2025, 10, 1), "block": 0}
        tx.connection.execute(sa.insert(kept_readings), old | {"figures": b"of a month not kept up any more"})
    do_job(demo, KeepMonths())
    with demo.transaction() as tx:
        assert tx.connection.scalar(sa.select(sa.func.min(kept_readings.c.first_day))) == months[0]
    soon = demo.snapshot(statements.statement_view, *whose, waits=False)
    assert not soon.costs_wait and soon.sheets == waited.sheets != early.sheets
    assert outdated(demo) == set()
    kept_agrees(demo)
    before = demo.run(buyers.overview, admin(demo, "GANNET"), "2026-10")
    with monkeypatch.context() as patched:
        patched.setattr(totals, "worked_out", None)
        patched.setattr(totals, "LARGE", 1)
        for module, cache in ((totals, "_totals"), (buyers, "_overviews")):  # as another server has them
            patched.setattr(module, cache, Cache(8, megabytes=8))
        assert demo.run(buyers.overview, admin(demo, "GANNET"), "2026-10") == before, "and nothing is worked out"

    lot = NewLot(
        owner="GANNET",
        product="WATCHGLASS",
        reference="MORE",
        quantity=50_000,
        first_day=date(2026, 11, 24),
        unit_cost=Decimal(3),
        currency="EUR",
    )
    applied(demo, admin(demo, "GANNET"), lot, StatusChange(account="TERN", status="suspended", charged=False))
    assert {first for _, first in outdated(demo)} == {MONTHS[0]}, "a purchase of today changes no month that is over"
    kept_agrees(demo)

    with demo.transaction() as tx:
        account, product = accounts_service.ids_by_code(tx)["TERN"], pools.product(tx, "COLDVAULT")
        at = accounts_service.start_of(tx, date(2026, 10, 20)) + timedelta(hours=5)
        late = {"product_id": product.id, "account_id": account, "category": "late", "at": at, "bytes": 10**13}
        usage.load_samples(tx, [late])
    over = {(code, first) for code, first in outdated(demo) if first != MONTHS[0]}
    assert over == {("COLDVAULT", MONTHS[1])}, "of what is over, only what it changes is made again"
    kept_agrees(demo)
    do_job(demo, KeepMonths())
    assert outdated(demo) == set()
    kept_agrees(demo)
    assert demo.snapshot(totals.differences) == []
    after = demo.run(buyers.overview, admin(demo, "GANNET"), "2026-10")
    assert [each.buyer for each, was in zip(after.buyers, before.buyers, strict=True) if each.amount != was.amount] == [
        "TERN"
    ]


def odd_database(database: Database, into: Path, seed: int, shape: str, is_plain: bool) -> odd_intake.Maker:
    """An intake with everything that is odd; a plain one without markups and caps that follow seats, which have what is
    kept worked out whole."""
    database.clock.set_to(datetime.fromisoformat("2026-06-03T10:00:00+00:00"))
    maker = odd_intake.Maker(seed, 24, shape, "Europe/Lisbon")
    maker.make()
    place = odd_intake.HEADERS["rates"].split(",").index("markup")
    marked_up = [row[:4] for row in maker.rows["rates"] if is_plain and row[place] not in ("", None)]
    for name in ("rates", "rate_tiers"):
        maker.rows[name] = [row for row in maker.rows[name] if row[:4] not in marked_up]
    for row in maker.rows["allocations"] if is_plain else ():
        row[-2:] = ["", ""]
        if row[8] == "":  # what lasts is passed easily, and then a clock runs
            row[3:7] = [row[2] + 2, "grace", "", 40]
    database.run(data_import.load, COMMAND_LINE, read_source(maker.write(into / "odd")))
    return maker


def late_use(database: Database, codes: list[str], chance: random.Random, month: int) -> None:
    """Bytes reported late of two accounts, one after the other, and a seat of one of them."""
    with database.transaction() as tx:
        ids, products = accounts_service.ids_by_code(tx), pools.products(tx)
        at = datetime(2026, month, chance.randint(1, 25), 7, tzinfo=UTC)
        where = [ids[each] for each in chance.sample(codes, 2)]
        product_id = chance.choice([each.id for each in products if each.is_storage])
        late = {"product_id": product_id, "category": "late", "at": at}
        for each in where:
            usage.load_samples(tx, [late | {"account_id": each, "bytes": chance.randint(0, 10**11)}])
        counted = chance.choice([each.id for each in products if not each.is_storage])
        seat = {"product_id": counted, "account_id": where[0], "subject": f"late-{at:%d}", "begins": at}
        usage.load_assignments(tx, [seat | {"ends": None}], lambda done: None)


def late_terms(database: Database, day: date) -> int:
    """An allocation is another from a day on that is over; of which product (by number)."""
    with database.transaction() as tx:
        terms = next(each for each in allocations.all_versions(tx, [each.id for each in pools.products(tx)]))
        row = {"product_id": terms.product_id, "account_id": terms.account_id, "first_day": day}
        row |= {"reserve": 1, "cap": 2, "at_cap": "block", "burst": None, "grace_days": None}
        allocations.load(tx, [row | {"last_day": None, "per_id": None, "each": None}])
    return int(terms.product_id)


def moved(database: Database, maker: odd_intake.Maker, day: date) -> None:
    """Two accounts that have none below them stand directly below the top from a day on."""
    leaves = sorted(set(maker.codes) - set(maker.parents.values()))
    now = database.clock.now()
    database.clock.set_to(datetime(day.year, day.month, day.day, 9, tzinfo=UTC))
    with database.transaction() as tx:
        for code in [each for each in leaves if maker.parents[each] != maker.codes[0]][:2]:
            accounts_service.move(tx, code, maker.codes[0])
        accounts_service.structure_changed(tx)
    database.clock.set_to(now)


def suspended(database: Database, maker: odd_intake.Maker, first: date, last: date) -> None:
    """Three accounts are not charged on some days."""
    now = database.clock.now()
    for day, status, charged in ((first, "suspended", False), (last + timedelta(days=1), "active", True)):
        database.clock.set_to(datetime(day.year, day.month, day.day, 9, tzinfo=UTC))
        with database.transaction() as tx:
            ids = accounts_service.ids_by_code(tx)
            for code in maker.codes[2:5]:
                accounts_service.set_status(tx, ids[code], status, charged=charged)
            accounts_service.structure_changed(tx)
    database.clock.set_to(now)


@pytest.mark.parametrize(
    ("seed", "shape", "is_plain"), [(31, "wide", True), (32, "bushy", True), (33, "chain", True), (34, "wide", False)]
)
def test_late_facts_of_a_few_accounts_correct_a_month_that_is_kept(
    new_database: Callable[[], Database], tmp_path: Path, seed: int, shape: str, is_plain: bool
) -> None:
    """A month is corrected by the accounts that late facts are of and those above them, again and again, to what all of
    its facts come to; also where accounts moved within it, and by late terms."""
    database, chance = new_database(), random.Random(seed)
    maker = odd_database(database, tmp_path, seed, shape, is_plain)
    if seed != 31:
        moved(database, maker, date(2026, 4, 13))
    if seed != 32:
        suspended(database, maker, date(2026, 4, 8), date(2026, 4, 20))
    do_job(database, KeepMonths())
    corrected = set()
    for turn in range(3):
        late_use(database, maker.codes[1:], chance, 4)
        if turn == 1:
            late_terms(database, date(2026, 4, 20))
        for product, first, last in database.snapshot(lambda tx: list(totals.outdated(tx))):
            with database.transaction() as tx:
                made_of = totals.made_of_facts(tx, product, first, last)
                assert made_of is not None
                if totals.corrected(tx, product, first, last, made_of) is not None:
                    corrected.add((product.is_storage, first))
            totals.keep_again(database, product, first, last)
            with database.transaction() as tx:
                month, facts = totals.read_and_worked_out(tx, product, first, last)
                found = totals.kept_totals(tx, product, first, made_of)
                k, ids = kept_pools.c, accounts_service.ids_by_code(tx)
                mine = sa.select(k.owner_id, k.currency, k.weights).where(
                    k.product_id == product.id, k.first_day == first
                )
                weights = {tuple(row) for row in tx.connection.execute(mine)}
                blocks = statements_store.kept_readings(tx.connection, product.id, first, [CORRECTIONS, 0])
            assert found is not None
            mine, theirs = (sorted(each.pools, key=lambda pool: (pool.owner, pool.currency)) for each in (found, facts))
            assert (replace(found, pools=()), mine) == (replace(facts, pools=()), theirs)
            assert weights == {
                (ids[each.owner], each.currency, packed_weights(each.weights, ids.__getitem__))
                for each in theirs
                if each.weights
            }
            if month.segments and (is_plain or blocks):
                read, are_kept = AccountDays.of(month), KeptReadings.unpacked(blocks, len(month.days))
                assert (read.figures == are_kept.of_accounts(read.ids)).all()
        assert outdated(database) == set()
    in_april = {is_storage for is_storage, first in corrected if first == date(2026, 4, 1)}
    assert not is_plain or len(corrected) > 3 and in_april == {False, True}
    assert database.snapshot(totals.differences) == []


def test_a_correction_of_what_was_kept_anew_meanwhile_is_put_aside(
    new_database: Callable[[], Database], tmp_path: Path
) -> None:
    database, first = new_database(), date(2026, 4, 1)
    maker = odd_database(database, tmp_path, 31, "wide", is_plain=True)
    do_job(database, KeepMonths())
    product = next(each for each in database.run(pools.products) if each.is_storage)
    month = (product, first, date(2026, 4, 30))

    def late(size: int) -> None:
        with database.transaction() as tx:
            ids, at = accounts_service.ids_by_code(tx), datetime(2026, 4, 10, 7, tzinfo=UTC)
            of = {"product_id": product.id, "category": "late", "at": at, "bytes": size}
            usage.load_samples(tx, [of | {"account_id": ids[maker.codes[-1]]}])

    late(10**10)
    slow = database.snapshot(totals._now, *month)
    late(10**12)
    totals.keep_again(database, *month)
    assert slow is not None
    database.run(slow)
    with database.transaction() as tx:
        made_of = totals.made_of_facts(tx, *month)
        assert made_of is not None
        facts, found = totals.worked_out(tx, *month), totals.kept_totals(tx, product, first, made_of)
    assert found is not None and (found.amounts, found.costs) == (facts.amounts, facts.costs)


@pytest.mark.parametrize(
    ("seed", "shape", "is_plain"), [(31, "wide", True), (32, "bushy", True), (33, "chain", True), (34, "wide", False)]
)
def test_late_facts_of_a_few_accounts_correct_the_days_that_are_kept(
    new_database: Callable[[], Database], tmp_path: Path, seed: int, shape: str, is_plain: bool
) -> None:
    """Days are corrected by the accounts that late facts are of and those above them, again and again, to what all of
    their facts come to; late terms have them settled whole."""
    database, chance = new_database(), random.Random(seed)
    maker = odd_database(database, tmp_path, seed, shape, is_plain)
    do_job(database, KeepDays())
    corrected, others = set(), set()
    for turn in range(3):
        late_use(database, maker.codes[1:], chance, 5)
        if turn == 1:
            others.add(late_terms(database, date(2026, 5, 20)))
        for product, days in database.snapshot(lambda tx: keeping.together(keeping.outdated(tx))):
            with database.transaction() as tx:
                found = keeping.corrected(tx, product, days)
                for day, mine in found.items():
                    whole = kept.KeptDay.of(positions_at(tx, [product], end_of(tx, day)))
                    assert not len(mine.beyond(whole).ids), (product.code, day)
            is_late = turn == 1 and product.id in others and max(days) >= date(2026, 5, 20)
            assert not is_late or max(found, default=date.min) < date(2026, 5, 20)
            corrected.update((product.is_storage, day) for day in found)
            keeping.keep_again(database, product, days)
        assert database.snapshot(lambda tx: list(keeping.outdated(tx))) == []
    assert database.snapshot(keeping.differences) == []
    assert not is_plain or len(corrected) > 30 and {is_storage for is_storage, _ in corrected} == {False, True}


def days_agree(database: Database, first: date) -> int:
    """Every day from one on, seen by accounts of every depth: what is kept is what settling its facts gives; how many
    days are kept."""
    found = 0
    with database.transaction() as tx:
        products = pools.products(tx)
        for ago in range(1, (accounts_service.today(tx) - first).days + 1):
            at = end_of(tx, accounts_service.today(tx) - timedelta(days=ago))
            whole = positions_at(tx, products, at)
            accounts = whole.snapshot.accounts
            codes = [accounts.tree.codes[row] for row in range(0, len(accounts.tree), 3)]
            part = kept.positions(tx, products, codes, at)
            if part is None:
                continue
            found += 1
            there = part.snapshot.accounts.tree
            rows = np.array([accounts.tree.row(code) for code in there.codes])
            for top in (0, there.row(codes[-1])):
                mine, all_of_it = part.seen_by(top), whole.seen_by(accounts.tree.row(there.codes[top]))
                for each, other in (
                    (mine.snapshot.own, all_of_it.snapshot.own),
                    (mine.settled.load, all_of_it.settled.load),
                    (mine.settled.held, all_of_it.settled.held),
                    (mine.hard, all_of_it.hard),
                    (mine.used(), all_of_it.used()),
                ):
                    assert np.array_equal(each, other[rows]), at
                below, same = there.branch(top), accounts.tree.branch(accounts.tree.row(there.codes[top]))
                inside = same[np.isin(same, rows)]
                assert np.array_equal(mine.headroom.room[below], all_of_it.headroom.room[inside]), at
            assert part.states() == whole.states(rows)
            marks = [whole.settled.load > whole.snapshot.grid.cap, whole.settled.held > whole.settled.load]
            for mark, flags in zip((kept.PAST_A_CAP, kept.UNUSED), marks, strict=True):
                known = kept.marked(tx, accounts, products, at, mark)
                assert known is not None and np.array_equal(known, flags.any(axis=1)), at
    return found


@pytest.fixture(params=["demo", (11, 24, "bushy"), (13, 12, "chain")], ids=str)
def some(
    request: pytest.FixtureRequest,
    new_demo: Callable[[], Database],
    new_odd: Callable[[int, int, str], Database],
) -> Database:
    """The demo, and trees with everything that is odd."""
    return new_demo() if request.param == "demo" else new_odd(*request.param)


def test_days_that_are_over_are_kept_until_a_late_fact(some: Database, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(kept._days, "get", lambda key, make: make())
    monkeypatch.setattr(KeepDays, "at_once", 600.0)
    monkeypatch.setattr(keeping, "DAYS_KEPT", 7)

    def outdated_days() -> set[tuple[str, date]]:
        return some.snapshot(lambda tx: {(product.code, day) for product, day in keeping.outdated(tx)})

    with some.transaction() as tx:
        today, products = accounts_service.today(tx), pools.products(tx)
        accounts = accounts_service.known(tx)
    first = today - timedelta(days=keeping.DAYS_KEPT)
    do_job(some, KeepDays())
    assert outdated_days() == set()
    assert days_agree(some, first) == keeping.DAYS_KEPT

    with some.transaction() as tx:  # what begins today changes nothing before it
        accounts_service.set_status(tx, int(accounts.ids[1]), "suspended", charged=False)
        leaf = accounts.tree.codes[-1]
        accounts_service.move(tx, leaf, accounts.tree.codes[0])
        accounts_service.create(tx, {"code": "NEW", "kind": "department", "name": "New"}, leaf, "none")
        accounts_service.structure_changed(tx)
    assert outdated_days() == set()
    assert days_agree(some, first) == keeping.DAYS_KEPT

    with some.transaction() as tx:
        pairs = store.following(tx.connection, generations.EARLIEST)
    counted = next(each for each in products if not each.is_storage and any(each.id == per for _, per in pairs))
    late = today - timedelta(days=5)
    with some.transaction() as tx:
        at = accounts_service.start_of(tx, late) + timedelta(hours=7)
        of = {"product_id": counted.id, "account_id": int(accounts.ids[-1])}
        usage.load_assignments(tx, [of | {"subject": "late", "begins": at, "ends": None}], lambda _: None)
    concerned = [each.code for each in products if each is counted or (each.id, counted.id) in pairs]
    assert len(concerned) > 1, "caps that follow seats are others too"
    assert outdated_days() == {(code, late + timedelta(days=each)) for code in concerned for each in range(5)}
    assert days_agree(some, first) == keeping.DAYS_KEPT - 5
    some.clock.shift += timedelta(days=1)
    do_job(some, KeepDays())
    assert days_agree(some, first) == keeping.DAYS_KEPT + 1
    assert some.snapshot(keeping.differences) == []
    with some.transaction() as tx:
        wrong = kept.KeptDay.made(np.array([int(accounts.ids[0])]), np.full((kept.KINDS, 1), 7)).packed()
        tx.connection.execute(sa.update(kept_days).values(figures=wrong, base_day=None))
    assert {what for what, _, _, _ in some.snapshot(keeping.differences)} == {"kept day"}
