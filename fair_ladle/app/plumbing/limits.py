"""How far a delegation goes beside its role: which products, groups and roles it may give, how much of a product in all
and in one change, and whether it may change caps, prices and rules."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True)
class Ceiling:
    """The most of a product, in grains, that a branch may hold for more to be given, and that one change may give;
    None = no bound."""

    in_all: int | None = None
    at_once: int | None = None

    def least(self, other: Ceiling) -> Ceiling:
        """Both at once."""
        return Ceiling(_least(self.in_all, other.in_all), _least(self.at_once, other.at_once))

    def is_above(self, other: Ceiling) -> bool:
        """Whether it lets more through than another."""
        return _above(self.in_all, other.in_all) or _above(self.at_once, other.at_once)


NO_CEILING = Ceiling()


@dataclass(frozen=True)
class Limits:
    """``products`` (codes), ``groups`` (an account's code, / and their own) and ``roles`` (keys) are
    what may be given; None = all of them.
    ``ceilings`` are those of each pool of a product, by its code, but for what ``pools`` says of single ones, by the
    codes of their owner and product."""

    products: frozenset[str] | None = None
    ceilings: Mapping[str, Ceiling] = field(default_factory=dict)
    pools: Mapping[tuple[str, str], Ceiling] = field(default_factory=dict)
    groups: frozenset[str] | None = None
    roles: frozenset[str] | None = None
    caps: bool = True
    prices: bool = True
    rules: bool = True

    def ceiling(self, owner: str, product: str) -> Ceiling:
        """The ceiling of a pool."""
        return self.pools.get((owner, product), self.ceilings.get(product, NO_CEILING))

    def bounds(self, product: str) -> bool:
        """Whether any pool of a product has a ceiling."""
        return product in self.ceilings or any(code == product for _, code in self.pools)

    def gives(self, product: str) -> bool:
        """Whether a product may be given at all."""
        return self.products is None or product in self.products

    def kept(self) -> dict[str, Any] | None:
        """As it is kept with a delegation; None where nothing is limited."""
        if self == FREE:
            return None
        return {
            "products": None if self.products is None else sorted(self.products),
            "ceilings": {code: [each.in_all, each.at_once] for code, each in sorted(self.ceilings.items())},
            "pools": [[*pool, each.in_all, each.at_once] for pool, each in sorted(self.pools.items())],
            "groups": None if self.groups is None else sorted(self.groups),
            "roles": None if self.roles is None else sorted(self.roles),
            "caps": self.caps,
            "prices": self.prices,
            "rules": self.rules,
        }

    def narrowed(self, further: Limits) -> Limits:
        """These limits and further ones at once."""

        def both(mine: frozenset[Any] | None, theirs: frozenset[Any] | None) -> frozenset[Any] | None:
            return theirs if mine is None else mine if theirs is None else mine & theirs

        codes = self.ceilings.keys() | further.ceilings.keys()
        pools = self.pools.keys() | further.pools.keys()
        return Limits(
            both(self.products, further.products),
            {code: self.ceiling("", code).least(further.ceiling("", code)) for code in codes},
            {pool: self.ceiling(*pool).least(further.ceiling(*pool)) for pool in pools},
            both(self.groups, further.groups),
            both(self.roles, further.roles),
            self.caps and further.caps,
            self.prices and further.prices,
            self.rules and further.rules,
        )

    def beyond(self, own: Limits) -> list[str]:
        """What of these limits goes further than one's own, in words; empty where nothing does."""
        found = [
            f"which {what} may be given"
            for what, mine, theirs in (
                ("products", own.products, self.products),
                ("groups", own.groups, self.groups),
                ("roles", own.roles, self.roles),
            )
            if mine is not None and (theirs is None or not theirs <= mine)
        ]
        pools = {("", code) for code in own.ceilings} | own.pools.keys() | self.pools.keys()
        wider = {code for owner, code in pools if self.ceiling(owner, code).is_above(own.ceiling(owner, code))}
        found += [f"how much of {code}" for code in sorted(wider) if self.gives(code)]
        pairs = (("caps", own.caps, self.caps), ("prices", own.prices, self.prices), ("rules", own.rules, self.rules))
        return found + [f"changing {what}" for what, mine, theirs in pairs if theirs and not mine]


def _least(one: int | None, other: int | None) -> int | None:
    return other if one is None else one if other is None else min(one, other)


def _above(amount: int | None, most: int | None) -> bool:
    return most is not None and (amount is None or amount > most)


FREE = Limits()
"""No limits beside the role."""


def limits_of(kept: Mapping[str, Any] | None) -> Limits:
    """Limits as they are kept with a delegation."""
    if kept is None:
        return FREE

    def some(name: str) -> frozenset[Any] | None:
        return None if kept[name] is None else frozenset(kept[name])

    return Limits(
        some("products"),
        {code: Ceiling(*each) for code, each in kept["ceilings"].items()},
        {(owner, code): Ceiling(*each) for owner, code, *each in kept.get("pools", [])},
        some("groups"),
        some("roles"),
        kept["caps"],
        kept["prices"],
        kept["rules"],
    )
