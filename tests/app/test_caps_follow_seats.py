"""A cap of storage that follows seats: what it is, who finds it, and what a seat given or taken does to it."""

from __future__ import annotations

from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import present, views
from fair_ladle.app.allocations.tables import counters as counters_table
from fair_ladle.app.assignments import counters, following
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.assignments import usecases as admissions
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.drafts.change_types import AllocationChange, Terms, UnitsChange
from fair_ladle.app.drafts.preview import apply_changes, preview
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools
from fair_ladle.connectors.sheets_in import read_source
from tests.conftest import actor_of

FILES = {
    "accounts": "code,parent,kind,name,currency,time_zone,admin_email,billing_email\nMSP,,operator,Msp,EUR,Europe/Lisbon,,\n"
    "TERN,MSP,client,Tern,,,,\nTERN-A,TERN,sub-account,Lettings,,,,\n",
    "products": "code,name,vendor,measure,unit,family,requires,components,successor\nSESS,Desk,V,session,session,,,,\n"
    "DISK,Disk,V,storage,GB,,,,\n",
    "lots": "reference,owner,product,quantity,first_day,last_day,unit_cost,currency,true_up,overcommit\n"
    "PO-1,MSP,SESS,10,2026-01-01,,2,EUR,,\nPO-2,MSP,DISK,100,2026-01-01,,0.1,EUR,,\n",
    "allocations": "account,product,reserve,cap,at_cap,burst,grace_days,first_day,last_day,per,each\n"
    "TERN,DISK,0,1,grace,0,2,2026-01-01,,SESS,2.5\n",
    "people": "account,username,display_name,email,status,invited_at,last_seen_at,title,department,protected\n"
    + "".join(f"TERN-A,{each},{each.title()},,active,,,,,\n" for each in ("ada", "ben", "cleo")),
    "assignments": "account,product,subject,from,to\nTERN-A,SESS,ada,2026-02-01T00:00:00+00:00,\n"
    "TERN-A,SESS,ben,2026-02-01T00:00:00+00:00,\n",
    "storage": "account,product,category,at,bytes\nTERN-A,DISK,mail,2026-02-01T00:00:00+00:00,5500000000\n",
}


@pytest.fixture
def tern(tmp_path: Path, new_database: Any) -> Database:
    for name, content in FILES.items():
        (tmp_path / f"{name}.csv").write_text(content)
    database: Database = new_database()
    database.run(data_import.load, COMMAND_LINE, read_source(tmp_path))
    return database


def disk(database: Database) -> tuple[int, int, str]:
    """Cap, headroom and state of TERN's disk, as a screen has it."""

    def read(tx: Transaction) -> tuple[int, int, str]:
        row = accounts_service.known(tx).tree.row("TERN")
        found = present.positions(tx, [pools.product(tx, "DISK")], [row])
        place = found.snapshot.accounts.tree.row("TERN")
        room = int(found.headroom.room[place, 0])
        return int(found.snapshot.grid.cap[place, 0]), room, found.states()[place][0]

    return database.run(read)


def counter(database: Database) -> Any:
    with database.transaction() as tx:
        c = counters_table
        return tx.connection.execute(sa.select(c).where(c.c.per == "SESS")).one()


def release(database: Database, *subjects: str) -> None:
    database.run(admissions.release, COMMAND_LINE, [Wanted("TERN-A", "SESS", each) for each in subjects])


def test_a_seat_brings_its_storage_and_takes_it_away(tern: Database) -> None:
    assert disk(tern) == (6000, 500, "near")
    tern.run(admissions.assign, COMMAND_LINE, [Wanted("TERN-A", "SESS", "cleo")])
    assert disk(tern) == (8500, 3000, "within")
    release(tern, "cleo", "ben")
    assert disk(tern) == (3500, -2000, "grace"), "and nobody was kept from releasing it"
    products = tern.run(assignments.add_up_use)
    assert products == {"SESS"}
    assert tern.run(following.follow_seats, products) == 1
    found = counter(tern)
    assert found.cap == 3500 and found.pressed and found.past_cap_since is not None
    assert tern.run(following.follow_seats, products) == 0
    assert tern.run(counters.differences) == []
    tern.clock.shift += timedelta(days=4)
    tern.run(assignments.rebuild_stale)
    assert disk(tern) == (3500, -2000, "restricted")
    tern.run(admissions.assign, COMMAND_LINE, [Wanted("TERN-A", "SESS", "ben")])
    assert disk(tern) == (6000, 500, "near"), "back within, at the instant of the seat"
    tern.run(following.follow_seats, tern.run(assignments.add_up_use))
    assert counter(tern).past_cap_since is None


def change(database: Database, **terms: Any) -> AllocationChange:
    def of(tx: Transaction) -> AllocationChange:
        version = views.cell(tx, COMMAND_LINE, "TERN", "DISK").version
        return AllocationChange(
            account="TERN",
            product="DISK",
            terms=Terms(**terms),
            seen=version.id if version else None,
            was=terms_of(version),
        )

    return database.run(of)


def test_a_draft_settles_what_follows_what_it_changes(tern: Database) -> None:
    tern.run(apply_changes, COMMAND_LINE, [change(tern, cap=1000, per="SESS", each=3000)], "a test")
    assert disk(tern) == (7000, 1500, "within")
    assert tern.run(counters.differences) == []

    taken = UnitsChange(account="TERN-A", product="SESS", subjects=("ada", "ben"), give=False)
    looked = tern.run(preview, COMMAND_LINE, [taken])
    assert looked.impact is not None
    [breach] = looked.impact.breaches
    assert (breach.account, breach.product, breach.after, breach.hard) == ("TERN", "DISK", 4500, True)
    assert not looked.impact.stopping, "releasing a seat is never refused for storage's sake"
    tern.run(apply_changes, COMMAND_LINE, [taken], "a test")
    assert disk(tern) == (1000, -4500, "over")
    assert tern.run(counters.differences) == []

    with pytest.raises(Refused, match="over its cap"):
        tern.run(apply_changes, COMMAND_LINE, [change(tern, cap=None, per="SESS", each=100)], "a test")
    tern.run(apply_changes, COMMAND_LINE, [change(tern, cap=20_000)], "a test")
    assert disk(tern) == (20_000, 14_500, "within")
    assert tern.run(counters.differences) == []


@pytest.mark.parametrize(
    ("terms", "why"),
    [
        ({"cap": 9000, "per": "DISK", "each": 1}, "a counted product"),
        ({"cap": 9000, "each": 1}, "whose seats"),
        ({"cap": 9000, "per": "SESS"}, "how many GB"),
        ({"reserve": 2000, "cap": 1000, "per": "SESS", "each": 9000}, "over the cap of 1 without seats"),
    ],
)
def test_terms_that_cannot_follow_seats_are_refused(tern: Database, terms: dict[str, Any], why: str) -> None:
    with pytest.raises(Refused, match=why):
        tern.run(apply_changes, COMMAND_LINE, [change(tern, **terms)], "a test")


def test_the_grid_of_a_department_admin_names_no_more_than_before(tern: Database) -> None:
    found = tern.run(views.cell, actor_of("TERN-A"), "TERN-A", "DISK")
    ladder = found.positions.visible_ladder(found.row, 0, actor_of("TERN-A"))
    assert [each["account"] for each in ladder["limits"]] == ["TERN-A"]
