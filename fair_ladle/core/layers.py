"""What reaches people through layers: account defaults, groups, and what they are given directly.

A product reaches a person if any layer gives it; a component is on if any giving layer has it on and no direct switch
turns it off. One seat a person and product, however many layers give it.
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
    """A layer that gives a product to people (places, ascending), with these of its components on (bits).

    The smallest ``priority`` gets its seats first.
    """

    product: int
    people: Ints
    components: int
    priority: int = 100


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
    products: int,
    grants: Sequence[Grant],
    off: Sequence[tuple[int, int, int]] = (),
    mandatory: Sequence[int] = (),
) -> Reached:
    """What reaches each person; ``off`` are direct switches (person, product, bits), which no mandatory component
    heeds.

    ``mandatory`` has for every product the bits of the components that are always on.
    """
    layers = np.zeros((people, products), dtype=np.int64)
    on = np.zeros((people, products), dtype=np.uint64)
    priority = np.full((people, products), NO_PRIORITY, dtype=np.int64)
    for each in grants:
        layers[each.people, each.product] += 1
        on[each.people, each.product] |= np.uint64(each.components)
        priority[each.people, each.product] = np.minimum(priority[each.people, each.product], each.priority)
    for person, product, bits in off:
        on[person, product] &= ~np.uint64(bits)
    for product, bits in enumerate(mandatory):
        on[layers[:, product] > 0, product] |= np.uint64(bits)
    on[layers == 0] = 0
    return Reached(layers, on, priority)


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
