"""The life of an account: made after another's shape, suspended, closed, reopened, and what its statements say of
it."""

from __future__ import annotations

import random
from dataclasses import replace
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

import pytest
import sqlalchemy as sa

from fair_ladle.app.account_admin import templates
from fair_ladle.app.account_admin import usecases as account_admin
from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations.positions import positions_at
from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import (
    AllocationChange,
    Change,
    LotEnd,
    NewAccount,
    RateChange,
    StatusChange,
    Terms,
    UnitsChange,
)
from fair_ladle.app.people_admin import joining
from fair_ladle.app.people_admin.joining import NewPerson
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.limits import Limits
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.app.sign_in import usecases as sign_in
from fair_ladle.app.statements import views as statements
from fair_ladle.app.usage import service as usage

TODAY = date(2026, 11, 24)


def admin(database: Database, account: str) -> Actor:
    email = f"{account.lower()}@x.example"
    database.run(sign_in.give_sign_in, COMMAND_LINE, email, f"Admin of {account}", account, "correct-ferry-staple")
    with database.transaction() as tx:
        found = sign_in_service.find_by_email(tx, email)
    assert found is not None
    return Actor(f"Admin of {account}", email, account, found.id)


def applied(database: Database, who: Actor, *changes: Change) -> int:
    draft = database.run(drafts.edit, who, None, 0, list(changes))
    database.run(drafts.apply, who, draft.row.id, draft.row.revision)
    assert not database.run(assignments.verify, COMMAND_LINE), "counters agree with the facts"
    return int(draft.row.id)


def figures(database: Database, account: str) -> dict[str, tuple[int, int, bool]]:
    """own of the branch, reserve, and whether anything is allocated, by product."""
    with database.transaction() as tx:
        found = positions_at(tx, pools.products(tx), tx.now)
        row = found.snapshot.accounts.tree.row(account)
        used = found.used()
        return {
            each.code: (
                int(used[row, column]),
                int(found.snapshot.grid.reserve[row, column]),
                bool(found.snapshot.grid.present[row, column]),
            )
            for column, each in enumerate(found.snapshot.products)
        }


def total(database: Database, buyer: str, month: str) -> Decimal:
    sheets = database.run(statements.statement_view, COMMAND_LINE, buyer, month).sheets
    return sum((each.statement.composed.net for each in sheets), Decimal(0))


def test_a_suspended_account_keeps_what_it_has_and_takes_nothing_new(demo: Database) -> None:
    who, before = admin(demo, "GANNET"), figures(demo, "TERN")
    previewed = demo.run(drafts.preview, who, [StatusChange(account="TERN", status="suspended", charged=False)])
    assert previewed.impact is not None and previewed.rate_cards is not None and not previewed.faults
    tern = next(each for each in previewed.impact.money(previewed.rate_cards) if each.account == "TERN")
    assert tern.charged_before > 0 and tern.charged_after == 0 and tern.cost_before == tern.cost_after, (
        "it costs what it cost, and is charged nothing"
    )
    applied(demo, who, StatusChange(account="TERN", status="suspended", charged=False))
    assert figures(demo, "TERN") == before
    with demo.transaction() as tx:
        product = pools.product(tx, "DISPATCH")
        accounts = accounts_service.known(tx)
        below = next(accounts.tree.codes[row] for row in accounts.tree.branch(accounts.tree.row("TERN")).tolist()[::-1])
    for actor, says in (
        (COMMAND_LINE, "Tern Housing Association is suspended"),
        (Actor("dept", "", below), "An account above") if below != "TERN" else (COMMAND_LINE, "suspended"),
    ):
        with pytest.raises(Refused, match=says):
            demo.run(assignments.assign, actor, [Wanted(below, product.code, "anyone")])


@pytest.mark.parametrize("charged", [True, False])
def test_days_of_a_suspension_are_charged_or_not_as_was_chosen(demo: Database, charged: bool) -> None:
    """Suspended for four of December's days, then active again: without charging, those days count nothing."""
    who = admin(demo, "GANNET")
    demo.clock.shift += timedelta(days=10)
    applied(demo, who, StatusChange(account="TERN", status="suspended", charged=charged))
    demo.clock.shift += timedelta(days=4)
    applied(demo, who, StatusChange(account="TERN", status="active", was="suspended"))
    demo.clock.shift += timedelta(days=30)
    view = demo.run(statements.statement_view, COMMAND_LINE, "TERN", "2026-12")
    assert view.notes == ([] if charged else ["Suspended on 4 days that are not charged."])
    for line in view.sheets[0].lines:
        days = view.period.month(line.line.product.code).buyer_days("TERN")
        assert days is not None and len(days) == 31
        nothing = [number for number, day in enumerate(days) if not (day.load or day.held or day.reserve)]
        assert nothing == ([] if charged else [3, 4, 5, 6]), line.line.product.code
        assert sum(share.amount for share in line.line.shares) == line.line.charge.amount, (
            "the parts add up all the same"
        )


def test_closing_releases_everything_leaves_a_last_statement_and_can_be_taken_back(demo: Database) -> None:
    who, before = admin(demo, "GANNET"), figures(demo, "MARROW")
    demo.clock.shift += timedelta(days=2)
    previewed = demo.run(drafts.preview, who, [StatusChange(account="MARROW", status="closed")])
    assert previewed.impact is not None and all(
        each.label in ("cleared", "better")
        for each in previewed.impact.breaches
        if each.account and each.account.startswith("MARROW")
    )
    draft_id = applied(demo, who, StatusChange(account="MARROW", status="closed"))
    assert all(figure == (0, 0, False) for figure in figures(demo, "MARROW").values()), (
        "nothing in use, nothing promised"
    )
    assert demo.run(statements.statement_view, COMMAND_LINE, "MARROW", "2026-11").notes == [
        "Marrow Lane Veterinary Group was closed after 25 Nov 2026: this is its last statement."
    ]
    with pytest.raises(Refused, match="closed"):
        demo.run(assignments.assign, COMMAND_LINE, [Wanted("MARROW-EQUINE", "DISPATCH", "anyone")])
    for change, says in (
        (
            AllocationChange(account="MARROW-EQUINE", product="DISPATCH", terms=Terms(reserve=1), seen=None),
            "Equine Unit is closed; nothing is allocated to it.",
        ),
        (
            NewAccount(code="OQ-NEW", parent="MARROW-EQUINE", account_kind="sub-account", name="New"),
            "Equine Unit is closed; reopen it first, or choose another parent.",
        ),
        (
            StatusChange(account="MARROW-EQUINE", status="suspended"),
            "Equine Unit is below a closed account; reopen that one first.",
        ),
        (StatusChange(account="MARROW", status="closed"), "Marrow Lane Veterinary Group is closed already."),
    ):
        assert [each.detail for each in demo.run(drafts.preview, who, [change]).faults] == [says]
    demo.clock.shift += timedelta(days=10)
    assert total(demo, "MARROW", "2026-11") > 0 and total(demo, "MARROW", "2026-12") == 0
    back = demo.run(drafts.reverse, who, draft_id)
    demo.run(drafts.apply, who, back.row.id, back.row.revision)
    after = figures(demo, "MARROW")
    assert {code: figure[1:] for code, figure in after.items()} == {
        code: figure[1:] for code, figure in before.items()
    }, "what it was promised is promised again"
    assert all(figure[0] == 0 for figure in after.values()), "what was released stays released"


def test_seats_are_taken_back_in_a_draft_and_given_again_by_its_reversal(demo: Database) -> None:
    who = admin(demo, "GANNET")
    with demo.transaction() as tx:
        product, accounts = pools.product(tx, "LANTERN-MAIL"), accounts_service.known(tx)
        every = usage.assignments_of(tx, product, accounts.ids.tolist())
        row = next(each for each in every if each.ends is None)
        account = accounts.tree.codes[accounts.row_of_id[row.account_id]]
    before = figures(demo, account)["LANTERN-MAIL"][0]
    take = UnitsChange(account=account, product="LANTERN-MAIL", subjects=(row.subject,), give=False)
    draft_id = applied(demo, who, take)
    assert figures(demo, account)["LANTERN-MAIL"][0] == before - 1
    cases = [
        (take, f"{row.subject} has no Lantern Mail in"),
        (take.model_copy(update={"product": "DEEPSHELF"}), "Deepshelf Storage is measured by what is stored"),
        (take.model_copy(update={"subjects": (row.subject, row.subject)}), "a person is listed twice"),
    ]
    for change, says in cases:
        assert any(says in each.detail for each in demo.run(drafts.preview, who, [change]).faults), says
    with pytest.raises(Refused, match="nobody is not a person of"):
        demo.run(
            drafts.apply_changes,
            who,
            [UnitsChange(account=account, product="LANTERN-MAIL", subjects=("nobody",), give=True)],
            "by hand",
        )
    back = demo.run(drafts.reverse, who, draft_id)
    demo.run(drafts.apply, who, back.row.id, back.row.revision)
    assert figures(demo, account)["LANTERN-MAIL"][0] == before and not demo.run(assignments.verify, COMMAND_LINE)


def test_what_cannot_be_closed_or_suspended_says_why(demo: Database) -> None:
    with demo.transaction() as tx:
        lot = next(
            pool
            for pool in pools.pools(tx, pools.products(tx))
            if pool.owner_id == accounts_service.ids_by_code(tx)["OLDQUAY"]
        )
    cases: list[tuple[Actor, list[Any], str]] = [
        (
            COMMAND_LINE,
            [StatusChange(account="GANNET", status="closed")],
            "Gannet & Rowe Managed IT is the top of your branch; its status is its parent's to say.",
        ),
        (
            Actor("client", "", "OLDQUAY"),
            [StatusChange(account="OLDQUAY", status="suspended")],
            "Old Quay Ferries is the top of your branch; its status is its parent's to say.",
        ),
        (Actor("client", "", "OLDQUAY"), [StatusChange(account="TERN", status="closed")], "no account 'TERN'"),
        (
            COMMAND_LINE,
            [StatusChange(account="OLDQUAY", status="closed")],
            f"still has lot {lot.lots[0].reference} of {lot.product.name}; end it first",
        ),
    ]
    for who, changes, says in cases:
        assert any(says in each.detail for each in demo.run(drafts.preview, who, changes).faults), says
    ended = [
        LotEnd(
            owner="OLDQUAY",
            product=lot.product.code,
            reference=each.reference,
            first_day=each.first_day,
            last_day=TODAY - timedelta(days=1),
        )
        for each in lot.lots
    ]
    assert not any(
        lot.product.name in each.detail
        for each in demo.run(
            drafts.preview, COMMAND_LINE, [*ended, StatusChange(account="OLDQUAY", status="closed")]
        ).faults
    )


def test_a_client_made_after_another_ones_shape_is_allocated_and_priced_like_it(demo: Database) -> None:
    """Marrow Lane has a mail price of its own: a client made after its shape gets departments, allocations and that
    price."""
    who = admin(demo, "GANNET")
    kept = demo.run(templates.keep, who, "Veterinary group", "MARROW", "ada@gannet.example", None)
    assert [each.code for each in kept.shape.accounts][0] == "MARROW" and [
        each.product for each in kept.shape.rates
    ] == ["LANTERN-MAIL"]
    assert [each.name for each in demo.run(templates.templates, who)] == ["Veterinary group"]
    assert demo.run(templates.templates, admin(demo, "OLDQUAY")) == [], "a client sees none of its provider's"
    rate = kept.shape.rates[0]
    changes: list[Change] = [
        NewAccount(code="PLOVER", parent="GANNET", account_kind="client", name="Plover Chandlery"),
        AllocationChange(account="PLOVER", product="LANTERN-MAIL", terms=Terms(reserve=10, cap=20), seen=None),
        RateChange(
            seller="GANNET", buyer="PLOVER", first_day=TODAY.replace(day=1), **{**rate.model_dump(), "basis": "held"}
        ),
    ]
    previewed = demo.run(drafts.preview, who, changes)
    assert previewed.impact is not None and previewed.rate_cards is not None and not previewed.faults
    money = {each.account: each.charged_after for each in previewed.impact.money(previewed.rate_cards)}
    draft_id = applied(demo, who, *changes)
    demo.clock.shift += timedelta(days=40)
    assert total(demo, "PLOVER", "2026-12") == money["PLOVER"] > 0, "a full month is charged what the draft said"
    for days, says in (
        (60, []),
        (30, [f"A price begins tomorrow at the earliest, not on {TODAY + timedelta(days=30):%-d %b %Y}."]),
    ):
        later = changes[2].model_copy(update={"first_day": TODAY + timedelta(days=days)})
        assert [each.detail for each in demo.run(drafts.preview, who, [later]).faults] == says
    back = demo.run(drafts.reverse, who, draft_id)
    assert [each.kind for each in back.changes] == ["status"]
    demo.run(drafts.apply, who, back.row.id, back.row.revision)
    assert not any(figure[2] for figure in figures(demo, "PLOVER").values()), (
        "an account cannot be unmade; it is closed"
    )


@pytest.mark.parametrize("seed", range(3))
def test_the_accounts_of_any_day_are_what_their_dated_facts_say(demo: Database, seed: int) -> None:
    """After moves, suspensions and accounts that are new, asked from days before and after: each as read from facts."""
    chance = random.Random(seed)
    with demo.transaction() as tx:
        first = accounts_service.today(tx) - timedelta(days=2)
    for turn in range(8):
        demo.clock.shift += timedelta(days=chance.randrange(3))
        with demo.transaction() as tx:
            accounts = accounts_service.known(tx)
            tree = accounts.tree
            row, other = chance.randrange(1, len(tree)), chance.randrange(len(tree))
            deed = chance.randrange(4)
            if deed == 0 and row not in tree.path_up(other):
                accounts_service.move(tx, tree.codes[row], tree.codes[other])
            elif deed == 1:
                row_of = {"code": f"NEW{turn}", "kind": "department", "name": "New", "currency": "EUR"}
                accounts_service.create(tx, row_of, tree.codes[other], chance.choice(["free", "none"]))
            else:
                status = chance.choice(["suspended", "closed", "active"])
                accounts_service.set_status(tx, int(accounts.ids[row]), status, charged=chance.random() < 0.5)
            accounts_service.structure_changed(tx)
    with demo.transaction() as tx:
        last = accounts_service.today(tx) + timedelta(days=2)
        days = [first + timedelta(days=each) for each in range((last - first).days)]
        for day in chance.sample(days, len(days)):
            found, read = accounts_service.on_day(tx, day), accounts_service.read(tx, day)
            assert (found.tree.codes, found.facts) == (read.tree.codes, read.facts), day
            assert found.tree.parent.tolist() == read.tree.parent.tolist() and found.row_of_id == read.row_of_id


def test_how_long_things_last_comes_from_the_nearest_account_above(demo: Database) -> None:
    """Set for the operator, then for a client: a department goes by the client, others by the operator."""

    def lasts(account: str) -> tuple[int, int | None]:
        found = demo.run(account_admin.settings, COMMAND_LINE, account)
        return next((each.in_force, each.own) for each in found if each.name == "invitation")

    gannet, oldquay = admin(demo, "GANNET"), admin(demo, "OLDQUAY")
    assert lasts("OLDQUAY-CREW") == (14, None)
    demo.run(account_admin.set_setting, gannet, "GANNET", "invitation", 10)
    demo.run(account_admin.set_setting, oldquay, "OLDQUAY", "invitation", 3)
    assert (lasts("OLDQUAY-CREW"), lasts("OLDQUAY"), lasts("TERN")) == ((3, None), (3, 3), (10, None))
    person = NewPerson("OLDQUAY-CREW", "Una Marsh", "una@quay.example", invite=True)
    demo.run(joining.add, oldquay, person)
    with demo.engine.connect() as connection:
        body = connection.scalar(sa.text("SELECT body FROM outbox WHERE to_address = 'una@quay.example'"))
    assert f"by {demo.clock.now().date() + timedelta(3):%-d %b %Y}" in str(body)
    demo.run(account_admin.set_setting, oldquay, "OLDQUAY", "invitation", None)
    assert lasts("OLDQUAY-CREW") == (10, None)
    with pytest.raises(Refused, match="does not let you change rules"):
        limited = replace(oldquay, limits=Limits(rules=False))
        demo.run(account_admin.set_setting, limited, "OLDQUAY", "invitation", 5)
    for account, name, amount, says in (
        ("OLDQUAY", "invitation", 0, "1 to 90 days"),
        ("OLDQUAY", "naps", 5, "There is no setting"),
        ("TERN", "invitation", 5, "There is no account"),
    ):
        with pytest.raises(Refused, match=says):
            demo.run(account_admin.set_setting, oldquay, account, name, amount)
