"""A ladder as an answer: the limits on the way up, for whoever may see how much of them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.pools.usecases import Product
from fair_ladle.core.path import Ladder, Rung
from fair_ladle.core.quantities import to_units


def ladder_members(
    found: Ladder,
    rungs: Sequence[Rung],
    product: Product,
    promisable: int,
    actor: Actor,
    names: dict[str, str] | None = None,
) -> dict[str, Any]:
    """A ladder for an answer: figures in units; what lies above the actor's branch is one limit without figures."""
    names = names or {}

    def units(grains: int | None) -> str | None:
        return None if grains is None else f"{to_units(grains, product.measure):f}"

    steps: list[dict[str, Any]] = []
    above: list[Any] = []
    inside = True
    for each, limit in zip([*rungs, None], found.limits, strict=True):
        if each is not None and inside:
            steps.append(
                {
                    "account": each.account,
                    "name": names.get(each.account, each.account),
                    "reserve": units(each.reserve),
                    "cap": units(each.cap),
                    "burst": units(each.burst if each.bursting else None),
                    "load": units(each.load),
                    "held": units(each.held),
                    "leaves": units(limit.leaves),
                    "binds": limit.binds,
                }
            )
            inside = each.account != actor.scope
        elif each is None and len(steps) == len(rungs):
            steps.append(
                {
                    "account": "supply",
                    "name": "Supply",
                    "reserve": None,
                    "cap": units(promisable),
                    "burst": None,
                    "load": units(rungs[-1].load),
                    "held": None,
                    "leaves": units(limit.leaves),
                    "binds": limit.binds,
                }
            )
        else:
            above.append(limit)
    bounded = [limit for limit in above if limit.leaves is not None]
    if bounded:
        tightest = min(bounded, key=lambda limit: limit.leaves)
        steps.append(
            {
                "account": "above",
                "name": "What comes from above",
                "reserve": None,
                "cap": None,
                "burst": None,
                "load": None,
                "held": None,
                "leaves": units(tightest.leaves),
                "binds": any(limit.binds for limit in above),
            }
        )
    binding = next((step for step in steps if step["binds"]), steps[-1])
    if binding["account"] == "supply":
        sentence = "The supply stops it."
    elif binding["account"] == "above":
        sentence = "What comes from above stops it."
    else:
        with_burst = f" and burst of {binding['burst']}" if binding["burst"] not in (None, "0") else ""
        sentence = f"{binding['name']}'s cap of {binding['cap']}{with_burst} stops it."
    return {
        "headroom": units(found.headroom),
        "bound_by": binding["account"],
        "sentence": sentence,
        "limits": steps,
        "unit": product.unit,
        "product": product.code,
    }
