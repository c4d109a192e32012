"""Drafts of every kind: what they would do, that they do it whole or not at all, on their day, and back again."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import date, timedelta
from decimal import Decimal
from typing import Any

import pytest
import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import listing, views
from fair_ladle.app.allocations.positions import positions_at
from fair_ladle.app.allocations.routes import CellName
from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.drafts import sharing_out
from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import AllocationChange, Change, LotEnd, Move, NewAccount, NewLot
from fair_ladle.app.drafts.effects import effect_body
from fair_ladle.app.drafts.impact import format_breach
from fair_ladle.app.drafts.preview import Preview
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.enforcement import enforcing as enforcement_enforcing
from fair_ladle.app.enforcement import store as enforcement_store
from fair_ladle.app.enforcement import usecases as enforcement
from fair_ladle.app.log import usecases as log
from fair_ladle.app.notices import usecases as notices
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools
from fair_ladle.app.purchases import usecases as purchases
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.app.sign_in import usecases as sign_in
from fair_ladle.core.calendar import instant
from fair_ladle.jobs import ApplyDueDrafts, FreeMended
from tests.conftest import do_job

TODAY, TOMORROW = date(2026, 11, 24), date(2026, 11, 25)
PASSWORD = "correct-ferry-staple"


@pytest.fixture
def actor(demo: Database) -> Callable[[str], Actor]:
    def of(account: str) -> Actor:
        email = f"{account.lower()}@x.example"
        demo.run(sign_in.give_sign_in, COMMAND_LINE, email, f"Admin of {account}", account, PASSWORD)
        with demo.transaction() as tx:
            found = sign_in_service.find_by_email(tx, email)
        assert found is not None
        return Actor(f"Admin of {account}", email, account, found.id)

    return of


def allocation(database: Database, account: str, product: str, **terms: Any) -> AllocationChange:
    with database.transaction() as tx:
        there = views.terms(tx, COMMAND_LINE, [(account, product)])[0].version
    was = terms_of(there)
    now = {**(was.model_dump() if was else {"reserve": 0}), **terms}
    return AllocationChange(account=account, product=product, terms=now, seen=there.id if there else None, was=was)  # type: ignore[arg-type]


def lot(product: str, quantity: int, **other: Any) -> NewLot:
    return NewLot(
        **{  # type: ignore[arg-type]
            "owner": "GANNET",
            "product": product,
            "reference": "GR-NEW",
            "quantity": quantity,
            "first_day": TODAY,
            "unit_cost": Decimal("5.10"),
            "currency": "EUR",
            **other,
        }
    )


def said(looked: Preview) -> list[str]:
    assert looked.impact is not None
    return [
        f"{each.label}: {format_breach(looked.impact, each)}" for each in looked.impact.breaches if each.label != "same"
    ] + [each.detail for each in looked.faults]


def kept(database: Database, actor: Actor, *changes: Change) -> drafts.Draft:
    return database.run(drafts.edit, actor, None, 0, list(changes))


CASES: list[tuple[str, list[Any], str]] = [
    (
        "a reserve over its cap",
        [("TERN", "DISPATCH", {"reserve": 99, "cap": 50})],
        "Tern Housing Association: a reserve of 99 is over the cap of 50; raise the cap or lower the reserve.",
    ),
    (
        "10^12 seats",
        [("TERN", "DISPATCH", {"cap": 10**12})],
        "Tern Housing Association: cap is from 0 to 100000000000 seats.",
    ),
    (
        "a cap under what is promised below",
        [("OLDQUAY", "WATCHGLASS", {"cap": 40, "at_cap": "block"})],
        "new: Old Quay Ferries would be 7 devices over its cap of Watchglass Guard, which its limit does not allow.",
    ),
    (
        "two that fit alone",
        [("TERN", "DISPATCH", {"reserve": 24, "cap": 30}), ("PENNANT", "DISPATCH", {"reserve": 17, "cap": 30})],
        "new: Fieldbook Dispatch would be short",
    ),
    (
        "a breach undone",
        [("OLDQUAY-ENGINEERING", "WATCHGLASS", {"cap": 18})],
        "cleared: Engineering Yard is back within its cap of Watchglass Guard.",
    ),
    (
        "a move below itself",
        [Move(account="OLDQUAY", parent="OLDQUAY-ENGINEERING-QUAYS")],
        "Old Quay Ferries cannot stand below itself; choose a parent outside its branch.",
    ),
    (
        "a move of the top",
        [Move(account="GANNET", parent="OLDQUAY")],
        "Gannet & Rowe Managed IT is the top of your branch; only its parent account can move it.",
    ),
    (
        "a code again",
        [NewAccount(code="oldquay", parent="GANNET", account_kind="client", name="Again")],
        "There is an account oldquay already; a code is given once.",
    ),
    (
        "another currency",
        [lot("DISPATCH", 10, currency="USD")],
        "GR-NEW: this pool is bought in EUR; one pool has one currency.",
    ),
    (
        "no currency",
        [lot("DISPATCH", 10, currency="EUX")],
        "GR-NEW: EUX is no currency; three letters after ISO 4217, such as EUR.",
    ),
    (
        "an end before the beginning",
        [lot("DISPATCH", 10, last_day=date(2026, 1, 1))],
        "GR-NEW: the last day is not before the first, 24 Nov 2026.",
    ),
    (
        "a lot nobody bought",
        [LotEnd(owner="GANNET", product="DISPATCH", reference="?", first_day=TODAY, last_day=TODAY)],
        "Gannet & Rowe Managed IT has no lot ? of Fieldbook Dispatch from 24 Nov 2026.",
    ),
]


@pytest.mark.parametrize(("changes", "says"), [case[1:] for case in CASES], ids=[case[0] for case in CASES])
def test_what_a_draft_would_do_is_said(demo: Database, changes: list[Any], says: str) -> None:
    made = [each if not isinstance(each, tuple) else allocation(demo, each[0], each[1], **each[2]) for each in changes]
    looked = demo.run(drafts.preview, COMMAND_LINE, made)
    assert any(line.startswith(says) for line in said(looked)), said(looked)


def test_the_money_of_a_full_month_moves_with_what_is_held(demo: Database) -> None:
    """Three seats fewer promised at 9.90 each; what they cost falls back to the owner as idle stock, and nothing is
    lost."""
    looked = demo.run(drafts.preview, COMMAND_LINE, [allocation(demo, "TERN", "FIELD-CORE", reserve=20)])
    assert looked.impact is not None and looked.rate_cards is not None
    money = {
        each.account: (each.charged_after - each.charged_before, each.cost_after - each.cost_before)
        for each in looked.impact.money(looked.rate_cards)
    }
    assert money == {"GANNET": (Decimal(0), Decimal("21.30")), "TERN": (Decimal("-29.70"), Decimal("-21.30"))}
    bought = demo.run(drafts.preview, COMMAND_LINE, [lot("FIELD-CORE", 100, unit_cost=Decimal("7"))])
    assert bought.impact is not None and bought.rate_cards is not None
    costs = [each.cost_after - each.cost_before for each in bought.impact.money(bought.rate_cards)]
    assert sum(costs) == Decimal("700.00"), "a hundred more cost what they cost, whoever bears it"


def test_a_purchase_and_a_renewal_show_what_they_cover(demo: Database, actor: Callable[[str], Actor]) -> None:
    who = actor("GANNET")
    with demo.transaction() as tx:
        mail = pools.pools(tx, [pools.product(tx, "LANTERN-MAIL")])[0]
    ending = next(each for each in mail.lots if each.last_day == date(2026, 12, 31))
    renewal = lot(
        "LANTERN-MAIL",
        400,
        reference="GR-27",
        first_day=date(2027, 1, 1),
        last_day=date(2027, 12, 31),
        renews=ending.reference,
    )
    looked = demo.run(drafts.preview, who, [renewal])
    ahead = next(each for each in looked.impact.breaches if each.day == date(2027, 1, 1))
    assert (ahead.label, ahead.before, ahead.after) == ("cleared", 317, 0)
    draft = kept(demo, who, renewal)

    def short(draft_id: int | None) -> int:
        found = demo.run(purchases.timeline, who, "GANNET", "LANTERN-MAIL", draft_id)
        return next(each.short for each in found.points if each.day == date(2027, 1, 1))

    assert (short(None), short(draft.row.id)) == (317, 0), "drawn with what the draft buys"
    with pytest.raises(Refused, match="no draft"):
        demo.run(purchases.timeline, replace(actor("BRAMBLE"), scope="GANNET"), "GANNET", "LANTERN-MAIL", draft.row.id)
    demo.run(drafts.apply, who, draft.row.id, draft.row.revision)
    with demo.transaction() as tx:
        assert "GR-27" in [each.reference for each in pools.pools(tx, [mail.product])[0].lots]
    back = demo.run(drafts.reverse, who, draft.row.id)
    demo.run(drafts.apply, who, back.row.id, back.row.revision)
    with demo.transaction() as tx:
        assert pools.pools(tx, [mail.product])[0].lots == mail.lots, "a lot that has not begun is taken back whole"
    assert demo.run(assignments.verify, COMMAND_LINE) == []


def test_a_move_takes_its_holdings_along(demo: Database, actor: Callable[[str], Actor]) -> None:
    who = actor("GANNET")

    def loads(tx: Transaction) -> dict[str, int]:
        found = positions_at(tx, [pools.product(tx, "WATCHGLASS")], tx.now)
        return {code: int(found.settled.load[row, 0]) for row, code in enumerate(found.snapshot.accounts.tree.codes)}

    before = demo.run(loads)
    move = Move(account="QUILLON", parent="BRAMBLE")
    looked = demo.run(drafts.preview, who, [move])
    assert looked.impact is not None and "new: Bramble IT Partners would be" in "\n".join(said(looked))
    room = allocation(demo, "BRAMBLE", "WATCHGLASS", cap=200)
    others = [
        allocation(demo, "BRAMBLE", code, cap=None)
        for code in ("FIELD-FULL", "FIELD-CORE", "LANTERN-MAIL", "NUMBERS", "DISPATCH", "DEEPSHELF", "COLDVAULT")
    ]
    draft = kept(demo, who, move, room, *others)
    demo.run(drafts.apply, who, draft.row.id, draft.row.revision)
    after = demo.run(loads)
    assert (after["BRAMBLE"], after["GANNET"]) == (before["BRAMBLE"] + before["QUILLON"], before["GANNET"])
    assert demo.run(assignments.verify, COMMAND_LINE) == []
    back = demo.run(drafts.reverse, who, draft.row.id)
    demo.run(drafts.apply, who, back.row.id, back.row.revision)
    assert demo.run(loads) == before and demo.run(assignments.verify, COMMAND_LINE) == []


def test_a_new_client_with_what_it_gets_in_one_draft(demo: Database, actor: Callable[[str], Actor]) -> None:
    who = actor("BRAMBLE")
    account = NewAccount(code="PLOVER", parent="BRAMBLE", account_kind="client", name="Plover Chandlery")
    gets = AllocationChange(account="PLOVER", product="DISPATCH", terms={"reserve": 2, "cap": 5}, seen=None)  # type: ignore[arg-type]
    draft = kept(demo, who, account, gets)
    demo.run(drafts.apply, who, draft.row.id, draft.row.revision)
    with demo.transaction() as tx:
        found = positions_at(tx, [pools.product(tx, "DISPATCH")], tx.now)
        row = found.snapshot.accounts.tree.row("PLOVER")
        assert (int(found.settled.held[row, 0]), int(found.snapshot.grid.cap[row, 0])) == (2, 5)
    assert demo.run(assignments.verify, COMMAND_LINE) == []
    then = demo.clock.now() - timedelta(days=24)
    counts = [demo.run(listing.listing, who, listing.Wanted(at=at)).count for at in (None, then)]
    assert counts == [5, 4], "as of a day before it was made it is not listed"


def test_a_draft_waits_for_its_day_is_checked_again_and_held_back_with_a_reason(
    demo: Database, actor: Callable[[str], Actor]
) -> None:
    who = actor("GANNET")
    draft = kept(demo, who, allocation(demo, "OLDQUAY-ENGINEERING", "WATCHGLASS", cap=18))
    with pytest.raises(Refused, match="23 Nov 2026 is not ahead"):
        demo.run(drafts.schedule, who, draft.row.id, draft.row.revision, TODAY - timedelta(days=1))
    scheduled = demo.run(drafts.schedule, who, draft.row.id, draft.row.revision, TOMORROW)
    assert scheduled.row.name == "Watchglass Guard: Engineering Yard", "told apart by what it does"
    second = kept(demo, who, allocation(demo, "OLDQUAY", "WATCHGLASS", cap=60))
    demo.run(drafts.schedule, who, second.row.id, second.row.revision, TOMORROW)
    do_job(demo, ApplyDueDrafts())
    with demo.engine.connect() as connection:
        assert connection.execute(sa.text("SELECT COUNT(*) FROM notices")).scalar() == 0
    assert demo.run(drafts.get, who, draft.row.id).row.state == "scheduled", "not before its day"
    demo.run(drafts.apply_changes, COMMAND_LINE, [allocation(demo, "OLDQUAY", "WATCHGLASS", cap=59)], "meanwhile")
    demo.clock.shift += timedelta(days=1)
    for _ in range(2):
        do_job(demo, ApplyDueDrafts())
    first, other = (demo.run(drafts.get, who, each.row.id).row for each in (draft, second))
    assert (first.state, other.state) == ("applied", "held")
    assert "Changed by someone else meanwhile: Watchglass Guard of Old Quay Ferries" in other.reason
    with demo.transaction() as tx:
        version = views.cell(tx, who, "OLDQUAY-ENGINEERING", "WATCHGLASS").version
    assert version is not None and (version.cap, version.first_day) == (18, TOMORROW)
    with demo.engine.connect() as connection:
        told = connection.execute(sa.text("SELECT subject, text FROM notices")).all()
        mail = set(connection.scalars(sa.text("SELECT to_address FROM outbox")))
    assert [tuple(each) for each in told] == [
        (
            "Engineering Yard: allocations changed by Admin of GANNET",
            "Watchglass Guard: you can use up to 18 devices (14 devices before); 14 devices reserved.",
        ),
    ]
    assert mail == {"admin.oldquay@oldquay.example"}, "the account has no admin of its own; its parent's is told"


def test_nothing_of_what_stands_above_or_beside_is_told_below(demo: Database, actor: Callable[[str], Actor]) -> None:
    """A name of a draft, a parent, a limit above: none of it reaches an account's admin by notice, log or refusal."""
    operator, client, reseller = actor("GANNET"), actor("QUILLON"), actor("HAZEL")
    draft = demo.run(
        drafts.edit,
        operator,
        None,
        0,
        [
            allocation(demo, "QUILLON", "DISPATCH", cap=9),
            Move(account="QUILLON", parent="BRAMBLE"),
            *(
                allocation(demo, "BRAMBLE", code, cap=None)
                for code in (
                    "FIELD-FULL",
                    "FIELD-CORE",
                    "LANTERN-MAIL",
                    "NUMBERS",
                    "DISPATCH",
                    "DEEPSHELF",
                    "COLDVAULT",
                    "WATCHGLASS",
                )
            ),
        ],
        (),
        "Make Tern pay for Fenwick",
    )
    demo.run(drafts.apply, operator, draft.row.id, draft.row.revision)
    demo.run(enforce_all_products)
    with demo.transaction() as tx:
        accounts = accounts_service.known(tx)
        seen = [f"{row.subject} {row.text}" for row in notices.shown(tx, client, accounts)]
        seen += [f"{row.subject} {row.before} {row.after}" for row in log.read(tx, client).entries]
    assert any("DISPATCH" in text or "Fieldbook Dispatch" in text for text in seen)
    for name in ("Tern", "Fenwick", "BRAMBLE", "Bramble", "'GANNET'"):
        assert not [text for text in seen if name in text], name
    held = [row.after for row in demo.run(lambda tx: log.read(tx, reseller).entries) if row.action == "put on hold"]
    assert held and not [each for each in held if "BRAMBLE" in str(each)]
    demo.run(drafts.apply_changes, COMMAND_LINE, [allocation(demo, "HAZEL", "DISPATCH", cap=None)], "no cap of its own")
    with pytest.raises(Refused, match="Not available now; ask Bramble IT Partners") as refused:
        demo.run(
            drafts.apply_changes,
            reseller,
            [allocation(demo, "HAZEL-FIELD", "DISPATCH", reserve=5000, cap=None)],
            "too much",
        )
    assert "Fieldbook" not in refused.value.problem.detail and refused.value.problem.more == {
        "ask": "Bramble IT Partners",
        "products": ["DISPATCH"],
    }


def enforce_all_products(tx: Transaction) -> None:
    for product in pools.products(tx):
        enforcement_store.begin_enforced(tx.connection, product.id, instant(0))
        enforcement_enforcing.enforce(tx, product.code)


def test_a_change_made_on_the_same_day_is_not_overwritten_unseen(demo: Database) -> None:
    first = allocation(demo, "TERN", "DISPATCH", cap=20)
    demo.run(drafts.apply_changes, COMMAND_LINE, [first], "one")
    second = allocation(demo, "TERN", "DISPATCH", cap=21)
    demo.run(drafts.apply_changes, COMMAND_LINE, [allocation(demo, "TERN", "DISPATCH", cap=30)], "meanwhile")
    for change in (second, second.model_copy(update={"was": None})):
        with pytest.raises(Refused, match="Changed by someone else meanwhile"):
            demo.run(drafts.apply_changes, COMMAND_LINE, [change], "two")


def test_a_draft_is_its_owners_and_whom_it_is_shared_with(demo: Database, actor: Callable[[str], Actor]) -> None:
    owner, colleague, client = actor("GANNET"), actor("GANNET"), actor("OLDQUAY")
    demo.run(sign_in.give_sign_in, COMMAND_LINE, "second@x.example", "Second", "GANNET", PASSWORD)
    with demo.transaction() as tx:
        found = sign_in_service.find_by_email(tx, "second@x.example")
    assert found is not None
    colleague = Actor("Second", "second@x.example", "GANNET", found.id)
    draft = kept(demo, owner, allocation(demo, "TERN", "DISPATCH", cap=20))
    for other in (colleague, client):
        with pytest.raises(Refused, match="no draft"):
            demo.run(drafts.get, other, draft.row.id)
    with pytest.raises(Refused, match="No admin of GANNET has the address oldquay@x.example"):
        demo.run(drafts.share, owner, draft.row.id, "oldquay@x.example")
    demo.run(drafts.share, owner, draft.row.id, "second@x.example")
    edited = demo.run(
        drafts.edit, colleague, draft.row.id, draft.row.revision, [allocation(demo, "TERN", "DISPATCH", cap=21)]
    )
    with pytest.raises(Refused, match="Someone else edited this draft meanwhile"):
        demo.run(drafts.edit, owner, draft.row.id, draft.row.revision, [allocation(demo, "TERN", "DISPATCH", cap=22)])
    assert edited.changes[0].terms.cap == 21  # type: ignore[union-attr]
    with pytest.raises(Refused, match="is Admin of GANNET's to discard"):
        demo.run(drafts.discard, colleague, draft.row.id)


def test_sharing_out_says_why_and_stands_as_changes(demo: Database) -> None:
    clients = [sharing_out.ShareOutWanted(code) for code in ("BRAMBLE", "FENWICK", "NORTHFOLD", "QUILLON", "TERN")]

    def shared(
        way: sharing_out.Way, amount: int | None, *wanted: sharing_out.ShareOutWanted, as_what: sharing_out.As = "cap"
    ) -> dict[str, tuple[int, str]]:
        found = demo.run(sharing_out.share_out, COMMAND_LINE, "LANTERN-MAIL", amount, wanted or clients, way, as_what)
        assert sum(each.part for each in found.parts) == found.amount - found.left_over
        return {each.account: (each.part, each.reason) for each in found.parts}

    first = shared("need", 20)
    assert first["BRAMBLE"] == (7, "7 to be back within its cap") and first["NORTHFOLD"] == (
        5,
        "5 to be back within its cap",
    )
    assert first["QUILLON"] == (2, "1 to be back within its cap, then 1 with the others") and first["TERN"] == (
        2,
        "2 with the others, after the breaches",
    )
    assert shared("even", 20)["TERN"] == (4, "an even share")
    assert shared("use", 100)["BRAMBLE"] == (26, "69 of 271 in use")
    by_hand = shared("even", 20, *clients[:-1], sharing_out.ShareOutWanted("TERN", 12, 12))
    assert by_hand["TERN"] == (12, "set by hand") and by_hand["BRAMBLE"] == (2, "an even share")
    with pytest.raises(Refused, match="the least amounts add up to 12, more than the 5 to share"):
        shared("even", 5, *clients[:-1], sharing_out.ShareOutWanted("TERN", 12))
    with pytest.raises(Refused, match="is below another chosen account"):
        shared("even", 5, sharing_out.ShareOutWanted("OLDQUAY"), sharing_out.ShareOutWanted("OLDQUAY-CREW"))
    promised = demo.run(sharing_out.share_out, COMMAND_LINE, "LANTERN-MAIL", None, clients, "even", "reserve")
    looked = demo.run(drafts.preview, COMMAND_LINE, [each.change for each in promised.parts if each.change])
    assert looked.impact is not None and looked.impact.stopping == [], "all that is free can be promised"
    assert promised.amount == promised.free == 119
    several = [sharing_out.ShareOutWanted(code) for code in ("BRAMBLE", "LARKHILL", "OLDQUAY")]
    found = demo.run(sharing_out.share_out, COMMAND_LINE, "CHARTROOM", 4, several, "even", "cap")
    assert {each.account: (each.part, each.reason) for each in found.parts} == {
        "BRAMBLE": (2, "an even share"),
        "LARKHILL": (2, "an even share"),
        "OLDQUAY": (0, "is served by another pool"),
    }


def test_a_raised_cap_takes_people_off_hold_at_once_and_the_draft_says_so(
    demo: Database, actor: Callable[[str], Actor]
) -> None:
    """Bramble is 7 over a cap of 64 and past its grace: 5 seats are on hold, 2 more are reserved and not in use."""
    who = actor("GANNET")
    demo.run(enforcement_enforcing.enforce, "LANTERN-MAIL")

    def on_hold() -> int:
        return len(demo.run(enforcement.on_hold, who, "BRAMBLE", "LANTERN-MAIL"))

    def sentence(cap: int) -> str:
        looked = demo.run(drafts.preview, who, [allocation(demo, "BRAMBLE", "LANTERN-MAIL", cap=cap)])
        body = effect_body(looked, who, CellName(account="BRAMBLE", product="LANTERN-MAIL"))
        assert body.most_reserve == cap and body.ladder is not None
        return body.breaches[0].sentence

    assert on_hold() == 5 and demo.run(enforcement_enforcing.mended) == {}
    assert sentence(71) == "Bramble IT Partners is back within its cap of Lantern Mail; 5 seats come off hold."
    assert sentence(68).endswith("; 4 seats come off hold.") and "; 2 seats come" in sentence(66)
    draft = kept(demo, who, allocation(demo, "BRAMBLE", "LANTERN-MAIL", cap=68))
    demo.run(drafts.apply, who, draft.row.id, draft.row.revision)
    job = FreeMended()
    for _ in range(2):
        do_job(demo, job)
        assert on_hold() == 1, "69 are used"


def test_a_grace_that_runs_above_what_is_allocated_is_said_with_its_end(
    demo: Database, actor: Callable[[str], Actor]
) -> None:
    with demo.transaction() as tx:
        found = positions_at(tx, pools.products(tx), tx.now)
        tree, products = found.snapshot.accounts.tree, found.snapshot.products
        (row, column), clock = next(
            (cell, clock) for cell, clock in found.snapshot.clocks.items() if tree.branch_size[cell[0]] > 1
        )
    child = tree.codes[int(tree.branch(row)[1])]
    looked = demo.run(drafts.preview, actor("GANNET"), [allocation(demo, child, products[column].code, cap=500)])
    assert looked.impact is not None
    body = effect_body(looked, actor("GANNET"), None)
    (still,) = [each for each in body.breaches if each.label == "same"]
    assert still.account == tree.codes[row] and f"its grace ended on {clock.deadline_day.day} " in still.sentence
    row, column = next(at for at, each in found.snapshot.clocks.items() if each.deadline_day > TODAY)
    over, cap = found.visible_ladder(row, column, COMMAND_LINE), int(found.snapshot.grid.cap[row, column])
    assert f" more: 0 to its cap of {cap}, then " in over["sentence"] and over["limits"][0]["goes_past"]


def test_what_a_draft_buys_and_allocates_can_be_shared_out_with_it(
    demo: Database, actor: Callable[[str], Actor]
) -> None:
    owner = actor("GANNET")
    bought = lot("LANTERN-MAIL", 50, first_day=date(2026, 11, 24))
    raised = allocation(demo, "TERN", "LANTERN-MAIL", reserve=70, cap=90)
    wanted = [sharing_out.ShareOutWanted("TERN"), sharing_out.ShareOutWanted("QUILLON")]

    def shared(draft: int | None, amount: int | None) -> sharing_out.SharedOut:
        return demo.run(sharing_out.share_out, owner, "LANTERN-MAIL", amount, wanted, "even", "cap", draft)

    bare = shared(None, None)
    draft = demo.run(drafts.edit, owner, None, None, [bought, raised])
    found = shared(draft.row.id, None)
    assert bare.free is not None and found.free is not None and found.by_draft == found.free - bare.free
    assert 50 - (70 - 58) <= found.by_draft < 50, "what is bought, less what the draft reserves of it"
    tern = next(each.change for each in shared(draft.row.id, 10).parts if each.account == "TERN")
    assert tern is not None and tern.terms.cap == 95 and tern.terms.reserve == 70, "the share comes on top of the draft"
    with pytest.raises(Refused, match="no draft"):
        demo.run(sharing_out.share_out, actor("BRAMBLE"), "LANTERN-MAIL", 1, wanted, "even", "cap", draft.row.id)
