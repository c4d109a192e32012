"""What a draft says it would do is what applying it does, whatever is in it."""

from __future__ import annotations

import random
from datetime import date, timedelta
from decimal import Decimal

import numpy as np
import pytest

from fair_ladle.app.allocations import views
from fair_ladle.app.allocations.positions import positions_at
from fair_ladle.app.assignments import counters
from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import AllocationChange, Change, LotEnd, Move, NewAccount, NewLot, Terms
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.plumbing.actor import COMMAND_LINE
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools

TODAY = date(2026, 11, 24)


class Undo(Exception):
    """Leave the database as it was."""


def anything(tx: Transaction, chance: random.Random) -> list[Change]:
    """A draft of a few changes of every kind, most of them sensible."""
    snapshot = positions_at(tx, pools.products(tx), tx.now).snapshot
    codes = list(snapshot.accounts.tree.codes)
    found: dict[str, Change] = {}
    for _ in range(chance.randint(1, 5)):
        account, product = chance.choice(codes[1:]), chance.choice(snapshot.products)
        kind = chance.random()
        change: Change
        if kind < 0.6:
            version = views.terms(tx, COMMAND_LINE, [(account, product.code)])[0].version
            was = terms_of(version) or Terms()
            by = chance.choice([-5, -1, 1, 5, 40]) * product.per_unit
            cap = None if was.cap is None or chance.random() < 0.1 else max(0, was.cap + by)
            reserve = max(0, was.reserve + chance.choice([0, 0, by]))
            terms = was.model_copy(
                update={
                    "cap": cap,
                    "reserve": reserve if cap is None else min(reserve, cap),
                    "at_cap": chance.choice(["block", "grace", "overage"]),
                    "grace_days": 9,
                }
            )
            change = AllocationChange(
                account=account,
                product=product.code,
                terms=terms,
                seen=version.id if version else None,
                was=terms_of(version),
            )
        elif kind < 0.75:
            change = NewLot(
                owner=chance.choice(["GANNET", "BRAMBLE"]),
                product=product.code,
                reference=f"NEW-{chance.random()}",
                quantity=chance.randint(1, 200) * product.per_unit,
                first_day=TODAY - timedelta(days=chance.choice([0, 3])),
                unit_cost=Decimal("1.5"),
                currency="EUR",
            )
        elif kind < 0.82:
            pool = chance.choice([each for each in snapshot.pools if each.product == product] or list(snapshot.pools))
            lot = chance.choice(pool.lots)
            change = LotEnd(
                owner=codes[snapshot.accounts.row_of_id[pool.owner_id]],
                product=pool.product.code,
                reference=lot.reference,
                first_day=lot.first_day,
                last_day=TODAY + timedelta(days=chance.choice([-1, 30])),
            )
        elif kind < 0.92:
            change = Move(account=account, parent=chance.choice(codes))
        else:
            change = NewAccount(
                code=f"N{chance.randint(1, 999)}", parent=account, account_kind="sub-account", name="New"
            )
        found[f"{change.kind} {change.key}"] = change
    return list(found.values())


@pytest.mark.parametrize("seed", range(14))
def test_the_effect_is_what_applying_does(shared_demo: Database, seed: int) -> None:
    outcome: list[str] = []

    def try_it(tx: Transaction) -> None:
        changes = anything(tx, random.Random(seed))
        previewed = drafts.preview(tx, COMMAND_LINE, changes)
        assert previewed.impact is not None
        try:
            drafts.apply_changes(tx, COMMAND_LINE, changes, "anything")
        except Refused as refused:
            assert previewed.faults or previewed.impact.stopping or previewed.clashes, refused
            outcome.append("refused")
            raise Undo from None
        assert not previewed.faults and not previewed.impact.stopping
        products = list(previewed.impact.after.snapshot.products)
        there, said = positions_at(tx, products, tx.now), previewed.impact.after
        assert there.snapshot.accounts.tree.codes == said.snapshot.accounts.tree.codes
        for name in ("load", "held"):
            assert np.array_equal(getattr(there.settled, name), getattr(said.settled, name)), name
        reached = there.snapshot.owner >= 0
        assert np.array_equal(there.headroom.room[reached], said.headroom.room[reached])
        assert np.array_equal(there.shortfalls(), said.shortfalls())
        assert counters.differences(tx) == [], "and the live counters follow"
        outcome.append("applied")
        raise Undo

    with pytest.raises(Undo):
        shared_demo.run(try_it)
    assert outcome
