"""What reaches people through layers: account defaults, groups, and what they are given directly.

A product reaches a person if any layer gives it: one seat, however many layers do. Of a component the first that
applies holds: mandatory → on; barred by the person's account or one above it → off; switched for the person → as
switched; barred by a group of theirs → off; on in any layer that gives the product → on (a layer that names none has
all on); else off.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fair_ladle.core.tree import Ints

Bits = NDArray[np.uint64]
MOST_COMPONENTS = 64


@dataclass(frozen=True)
class Grant:
    """A layer that gives a product to people (places, ascending), with these of its components on (bits; None = it
    names none, so all are on).

    The smallest ``priority`` gets its seats first.
    """

    product: int
    people: Ints
    components: int | None
    priority: int = 100


@dataclass(frozen=True)
class Bar:
    """Components (bits) of a product that an account or a group bars for people (places)."""

    product: int
    people: Ints
    components: int


@dataclass(frozen=True)
class Switch:
    """Components (bits) of a product that are switched on, and off, for one person."""

    product: int
    person: int
    on: int
    off: int


@dataclass(frozen=True)
class Reached:
    """Who is reached by each product: people × products.

    ``layers`` counts how many layers give it (0 = not reached), ``components`` has the bits that are on, ``priority``
    the smallest of the layers' priorities.
    """

    layers: Ints
    components: Bits
    priority: Ints


NO_PRIORITY = np.iinfo(np.int64).max


def reach(
    people: int,
    components: Sequence[int],
    grants: Sequence[Grant],
    switches: Sequence[Switch] = (),
    mandatory: Sequence[int] = (),
    barred_by_accounts: Sequence[Bar] = (),
    barred_by_groups: Sequence[Bar] = (),
) -> Reached:
    """What reaches each person; ``components`` has for every product the bits of all it has, ``mandatory`` those that
    are always on. Of a product that does not reach a person nothing is on.
    """
    products = len(components)
    layers = np.zeros((people, products), dtype=np.int64)
    on = np.zeros((people, products), dtype=np.uint64)
    priority = np.full((people, products), NO_PRIORITY, dtype=np.int64)
    for each in grants:
        layers[each.people, each.product] += 1
        bits = components[each.product] if each.components is None else each.components
        on[each.people, each.product] |= np.uint64(bits)
        priority[each.people, each.product] = np.minimum(priority[each.people, each.product], each.priority)
    _bar(on, barred_by_groups)
    for switch in switches:
        on[switch.person, switch.product] |= np.uint64(switch.on)
        on[switch.person, switch.product] &= ~np.uint64(switch.off)
    _bar(on, barred_by_accounts)
    for product, bits in enumerate(mandatory):
        on[layers[:, product] > 0, product] |= np.uint64(bits)
    on[layers == 0] = 0
    return Reached(layers, on, priority)


def _bar(on: Bits, bars: Sequence[Bar]) -> None:
    for each in bars:
        on[each.people, each.product] &= ~np.uint64(each.components)


def waiting_order(people: Ints, priority: Ints, since: Ints) -> Ints:
    """People who wait for a seat in the order they get one: by priority, then who has waited longest, then as they
    come."""
    return people[np.lexsort((people, since, priority))]


def personal_limit(
    direct: int | None, groups: Sequence[tuple[int, int]], defaults: Sequence[tuple[int, int]]
) -> tuple[str, int, int] | None:
    """How much one person may store: (layer, place in it, grains); None where no layer says.

    The direct limit, else the first of the groups they are in (given as place and grains, in order of precedence),
    else the first of the accounts upwards that sets a default (the same, the nearest first). The pool always applies
    besides.
    """
    if direct is not None:
        return "direct", 0, direct
    for layer, found in (("group", groups), ("account", defaults)):
        if found:
            return layer, found[0][0], found[0][1]
    return None


def family_order(successors: Sequence[int]) -> list[int]:
    """The products of an exclusive family, the lowest first: places in the products table's order, each after those it
    succeeds; ``successors`` has for each its successor's place, or -1. Of those in a circle, which is a fault of the
    data, the first comes first.
    """
    left, order = list(range(len(successors))), list[int]()
    while left:
        free = [place for place in left if all(successors[each] != place for each in left if each != place)]
        order.append((free or left)[0])
        left.remove(order[-1])
    return order
