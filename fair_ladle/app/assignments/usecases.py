"""Assigning and releasing units live, and whether what is kept agrees with its evidence."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from datetime import datetime

from fair_ladle.app.allocations import keeping
from fair_ladle.app.assignments import claims, counters, service
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.assignments.places import product_now
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import memberships
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import conflict, invalid, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.usage import service as usage


def assign(tx: Transaction, actor: Actor, wanted: Sequence[Wanted]) -> datetime:
    """Assign units, all or none; when. Refused with the ladder where a limit stops one of them."""
    for each in wanted:
        product = product_now(tx, each.product)
        if product.measure == "item":
            raise invalid(
                f"{product.name} is numbered: assign its numbers under Numbers, with what they need.", "product"
            )
        if each.reserves:
            raise invalid(f"{each.subject!r} is no subject; reserve a seat under People.", "subject")
    return service.admit(tx, actor, wanted)


def release(tx: Transaction, actor: Actor, wanted: Sequence[Wanted]) -> datetime:
    """Release units, all or none; when. Refused where one is not assigned, or an add-on would be left without a
    base."""
    leaving: dict[str, set[str]] = defaultdict(set)
    for each in wanted:
        leaving[each.subject].add(each.product)
    at = service.release(tx, actor, wanted)
    for subject, add_on, base in service.add_ons_left(tx, list(leaving), leaving):
        raise conflict(f"{subject} has {add_on.name}, which needs {base.name}; release that first.")
    return at


def verify(tx: Transaction, actor: Actor) -> list[tuple[str, str, str, str]]:
    """Everything kept that does not agree with its evidence: counters, claims, members by rule, the newest kept days,
    and the chain of the log."""
    if actor.scope is not None:
        raise not_found("installation", actor.scope)
    found = [*counters.differences(tx), *claims.differences(tx), *memberships.differences(tx), *keeping.differences(tx)]
    found += usage.stored_differences(tx, [each for each in pools_service.products(tx) if each.is_storage])
    found.extend(("log", each, "", "") for each in log_service.broken_seals(tx))
    return found
