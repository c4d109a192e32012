"""A ladder as an answer: the limits on the way up, as far as whoever asks may see.

Who sees the pool's owner sees every rung up to the supply. Anybody else's ladder ends at the top of their own scope: of
what lies above nothing is said but the name of the account to ask.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.pools.service import Product
from fair_ladle.core.path import Ladder, Rung, within
from fair_ladle.core.quantities import to_units


def in_sight(found: Ladder, rungs: Sequence[Rung], actor: Actor) -> tuple[Ladder, int | None]:
    """A ladder as far as the actor may see, and the place of its last rung; None where that is all of it."""
    codes = [each.account for each in rungs]
    top = codes.index(actor.scope) if actor.scope in codes[:-1] else None
    return (found, None) if top is None else (within(rungs[: top + 1]), top)


def ladder_members(
    found: Ladder,
    rungs: Sequence[Rung],
    product: Product,
    promisable: int,
    actor: Actor,
    names: dict[str, str],
    asked: int | None = None,
) -> dict[str, Any]:
    """A ladder for an answer, figures in units; ``asked`` is what was refused just now (grains), if anything was.

    ``names`` has the accounts of the rungs and the one above the actor's scope.
    """

    def units(grains: int | None) -> str | None:
        return None if grains is None else f"{to_units(grains, product.measure):f}"

    codes = [each.account for each in rungs]
    seen, top = in_sight(found, rungs, actor)
    steps: list[dict[str, Any]] = []
    for rung, limit in zip(rungs, seen.limits, strict=False):
        steps.append(
            {
                "account": rung.account,
                "name": names[rung.account],
                "reserve": units(rung.reserve),
                "cap": units(rung.cap),
                "burst": units(rung.burst if rung.bursting else None),
                "goes_past": rung.bursting,
                "load": units(rung.load),
                "held": units(rung.held),
                "leaves": units(limit.leaves),
                "binds": limit.binds,
            }
        )
    if top is None:
        supply = {"account": "supply", "name": "Supply", "cap": units(promisable), "load": units(rungs[-1].load)}
        unknown = {"reserve": None, "burst": None, "goes_past": False, "held": None}
        steps.append({**supply, **unknown, "leaves": units(seen.limits[-1].leaves), "binds": seen.limits[-1].binds})
    above = None if top is None else names[codes[top + 1]]
    unseen = asked is not None and (seen.headroom is None or asked <= seen.headroom)
    return {
        "headroom": units(seen.headroom),
        "bound_by": "above" if unseen else seen.bound_by,
        "sentence": _sentence(product, names[codes[0]], rungs[0], steps, seen.headroom, above, unseen),
        "ask": above,
        "limits": steps,
        "unit": product.unit,
        "product": product.code,
    }


def _sentence(
    product: Product,
    name: str,
    own: Rung,
    steps: list[dict[str, Any]],
    headroom: int | None,
    above: str | None,
    unseen: bool,
) -> str:
    if unseen:
        return f"Not available now; ask {above}."
    if headroom is None:
        none = "has no cap here" if all(step["cap"] is None for step in steps) else "is stopped by no cap here"
        return f"{name} {none}; what is free above is {above}'s to say."
    room = max(0, headroom)

    def said(grains: int) -> str:
        return product.said(grains) if product.is_storage else str(grains)

    unit = f" {product.unit}" if product.is_storage else ""
    can = f"{name} can take {said(room)} more"
    if own.cap is not None and room > (to_cap := max(0, own.cap - own.load)):
        can += f": {said(to_cap)} to its cap of {said(own.cap)}, then {said(room - to_cap)} past it"
    binding = next(step for step in steps if step["binds"])
    if binding["account"] == "supply":
        return f"{can}, limited by supply."
    burst = f" and burst of {binding['burst']}{unit}" if binding["burst"] not in (None, "0") else ""
    return f"{can}, limited by {binding['name']}'s cap of {binding['cap']}{unit}{burst}."
