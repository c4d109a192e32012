"""What the delegation of whoever gives units bounds: which products, how many in one change, and how many a branch may
hold for more to be given. Above a ceiling an act is asked for instead: the refusal says with which changes."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from typing import Any

from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.assignments.places import Place
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.limits import FREE
from fair_ladle.app.plumbing.problems import Problem, Refused, not_allowed
from fair_ladle.app.pools.service import Product

ABOVE = "above-ceiling"


def above(detail: str, changes: list[dict[str, Any]] | None = None) -> Refused:
    """The refusal of what goes above a ceiling; ``changes`` are what can be asked for instead."""
    said = f"{detail} Ask for it, or give fewer."
    return Refused(Problem(ABOVE, "Above your ceiling", 403, said, {"ask": changes or []}))


def may_give(actor: Actor, product: Product) -> None:
    """Refused where the actor's delegation is not for giving a product."""
    if not actor.limits.gives(product.code):
        raise not_allowed(f"Your delegation does not let you give {product.name}.")


def judge_at_once(
    tx: Transaction, actor: Actor, wanted: Sequence[Wanted], places: dict[tuple[str, str], Place]
) -> None:
    """Refused where this and what the transaction gave before are more than the actor may give in one change, or of a
    product that is not theirs to give."""
    if actor.limits == FREE:
        return
    by_pool: dict[tuple[str, Product], list[Wanted]] = defaultdict(list)
    for each in wanted:
        place = places[each.account, each.product]
        by_pool[place.owner_code, place.product].append(each)
    for (owner, product), units in by_pool.items():
        judge_amount(tx, actor, owner, product, units)


def judge_amount(tx: Transaction, actor: Actor, owner: str, product: Product, wanted: Sequence[Wanted]) -> None:
    """The same for units of one pool."""
    may_give(actor, product)
    most = actor.limits.ceiling(owner, product.code).at_once
    given = tx.handed.get((owner, product.code), 0) + len(wanted)
    if most is not None and given > most:
        raise above(
            f"You may give at most {product.said(most)} of {product.name} in one change; here are "
            f"{product.said(given)}.",
            asked(product, wanted),
        )


def note(tx: Transaction, wanted: Sequence[Wanted], places: dict[tuple[str, str], Place]) -> None:
    """Count what was given."""
    for each in wanted:
        pool = places[each.account, each.product].owner_code, each.product
        tx.handed[pool] = tx.handed.get(pool, 0) + 1


def asked(product: Product, wanted: Sequence[Wanted]) -> list[dict[str, Any]]:
    """The units of a product that are wanted, as changes of a draft."""
    subjects: dict[str, list[str]] = defaultdict(list)
    for each in wanted:
        if each.product == product.code and not each.reserves:
            subjects[each.account].append(each.subject)
    return [
        {"kind": "units", "account": account, "product": product.code, "subjects": names, "give": True}
        for account, names in subjects.items()
    ]


def in_all(actor: Actor, place: Place) -> tuple[int, int] | None:
    """The account (its number) whose load an actor's ceiling in all is judged by, and that ceiling: the top of their
    branch, or the pool's owner where the pool stands in the branch; None where nothing bounds it."""
    most = actor.limits.ceiling(place.owner_code, place.product.code).in_all
    if most is None:
        return None
    return next((number for number, code, _ in place.to_owner if code == actor.scope), place.to_owner[-1][0]), most


def too_much(actor: Actor, place: Place, load: int, wanted: Sequence[Wanted] = ()) -> Refused:
    """The refusal of what would let a branch hold more of a pool than the actor may give in all."""
    product = place.product
    most = actor.limits.ceiling(place.owner_code, product.code).in_all
    assert most is not None
    return above(
        f"You may give as long as {product.said(most)} of {product.name} are held here; with this there were "
        f"{product.said(load)}.",
        asked(product, wanted),
    )
