"""Sharing whole grains (or minor units of money) out, exactly and the same on every run."""

from __future__ import annotations

import heapq
from collections.abc import Sequence
from enum import StrEnum
from fractions import Fraction
from typing import Any

import numpy as np


class Mode(StrEnum):
    """The ways of sharing out."""

    EVEN = "even"
    PROPORTIONAL = "proportional"
    MAX_MIN = "max-min"
    NEED = "need"


def largest_remainder(amount: int, weights: Sequence[int]) -> list[int]:
    """An amount in proportion to weights, in whole parts that add up to it.

    Weights come in tree order. What rounding down leaves goes to the largest remainders; ties to the
    larger weight, then to the earlier place. ValueError where no weight is above 0.
    """
    whole = sum(weights)
    if whole <= 0:
        raise ValueError("nothing to share by: every weight is 0")
    parts, remainders = [], []
    for place, weight in enumerate(weights):
        part, remainder = divmod(amount * weight, whole)
        parts.append(part)
        remainders.append((-remainder, -weight, place))
    for _, _, place in sorted(remainders)[: amount - sum(parts)]:
        parts[place] += 1
    return parts


def share(
    amount: int,
    weights: Sequence[int],
    low: Sequence[int],
    high: Sequence[int],
    mode: Mode,
    needs: Sequence[int] | None = None,
) -> list[int]:
    """Whole grains for each account, in tree order, adding up to min(amount, Σ high), low ≤ each ≤ high.

    ``even`` leaves weights aside; ``proportional`` rounds by largest remainder (ties: larger weight,
    then tree order); ``max-min`` raises everyone's level together in proportion to weight, each
    stopping at its high, and hands the last grains to whoever stands lowest; ``need`` first covers
    ``needs`` (what breaches and grace lack now), then goes on by max-min. ValueError where Σ low is
    more than the amount, or a low over its high.
    """
    if any(least > most for least, most in zip(low, high, strict=True)):
        raise ValueError("a least is over its most")
    if sum(low) > amount:
        raise ValueError(f"the least amounts add up to {sum(low)}, more than the {amount} to share")
    amount = min(amount, sum(high))
    if mode is Mode.EVEN:
        weights = [1] * len(low)
    if mode is Mode.NEED:
        wanted = [
            min(most, max(least, need)) for need, least, most in zip(needs or [0] * len(low), low, high, strict=True)
        ]
        if sum(wanted) >= amount:
            return _fill(amount, weights, low, wanted, by_level=True)
        return _fill(amount, weights, wanted, high, by_level=True)
    return _fill(amount, weights, low, high, by_level=mode is Mode.MAX_MIN)


def _fill(amount: int, weights: Sequence[int], low: Sequence[int], high: Sequence[int], by_level: bool) -> list[int]:
    """Everyone at clamp(level × weight, low, high) for the level at which it adds up, in whole grains.

    Accounts without weight stay at their low until all others are at their high, then share evenly.
    """
    weighted = [place for place, weight in enumerate(weights) if weight > 0]
    room = sum(high[place] if weights[place] > 0 else low[place] for place in range(len(low)))
    parts = list(low)
    if amount > room:
        for place in weighted:
            parts[place] = high[place]
        idle = [place for place, weight in enumerate(weights) if weight <= 0]
        rest = _fill_weighted(
            amount - sum(high[place] for place in weighted),
            [1] * len(idle),
            [low[place] for place in idle],
            [high[place] for place in idle],
            by_level,
        )
        for place, part in zip(idle, rest, strict=True):
            parts[place] = part
        return parts
    target = amount - (sum(low) - sum(low[place] for place in weighted))
    filled = _fill_weighted(
        target,
        [weights[place] for place in weighted],
        [low[place] for place in weighted],
        [high[place] for place in weighted],
        by_level,
    )
    for place, part in zip(weighted, filled, strict=True):
        parts[place] = part
    return parts


EXACT_FLOATS, EXACT_SUMS = 2**52, 2**62


def _fill_weighted(
    amount: int, weights: Sequence[int], low: Sequence[int], high: Sequence[int], by_level: bool
) -> list[int]:
    if not weights:
        return []
    # Arrays of machine integers where no product or sum can overflow, of Python's own where one could.
    largest = (amount + max(high)) * sum(weights)
    small = largest * len(weights) < EXACT_SUMS and max(high) * max(weights) < EXACT_FLOATS
    weight, least, most = (np.array(each, dtype=np.int64 if small else object) for each in (weights, low, high))
    level = _level(amount, weight, least, most)
    at_level, over = (level.numerator * weight) // level.denominator, (level.numerator * weight) % level.denominator
    is_open = (at_level >= least) & (at_level < most)
    parts = np.minimum(np.maximum(at_level, least), most)
    result = [int(part) for part in parts]
    rest = amount - sum(result)
    if by_level:
        _hand_out(rest, result, weights, high, small)
        return result
    order = sorted(np.flatnonzero(is_open).tolist(), key=lambda place: (-int(over[place]), -weights[place], place))
    for place in order[:rest]:
        result[place] += 1
    return result


def _hand_out(rest: int, parts: list[int], weights: Sequence[int], high: Sequence[int], small: bool) -> None:
    """The last grains, one at a time, each to whoever then stands lowest; a large weight may get several.

    Ties: larger weight, then tree order. ``small``: quotients of integers this small differ as floats wherever they
    differ at all.
    """

    def turn(place: int) -> tuple[Any, int, int]:
        level = (parts[place] + 1) / weights[place] if small else Fraction(parts[place] + 1, weights[place])
        return level, -weights[place], place

    turns = [turn(place) for place in range(len(parts)) if parts[place] < high[place]]
    heapq.heapify(turns)
    for _ in range(rest):
        _, _, place = turns[0]
        parts[place] += 1
        if parts[place] < high[place]:
            heapq.heapreplace(turns, turn(place))
        else:
            heapq.heappop(turns)


def _level(amount: int, weight: Any, least: Any, most: Any) -> Fraction:
    """The level at which Σ clamp(level × weight, least, most) = amount.

    Between two neighbouring turning points (a least left behind, a most reached) the sum is a straight
    line; a binary search over the turning points finds the piece. Turning points are sorted as floats, which
    never puts a larger quotient before a smaller one, and told apart exactly where floats are the same.
    """
    bounds, by = np.concatenate([least, most]), np.concatenate([weight, weight])
    quotients = (bounds / by).astype(float)
    groups, group_of = np.unique(quotients, return_inverse=True)
    members = np.split(np.argsort(group_of, kind="stable"), np.cumsum(np.bincount(group_of))[:-1])

    def turns(group: int) -> list[Fraction]:
        pairs = {(int(bounds[place]), int(by[place])) for place in members[group].tolist()}
        return sorted({Fraction(bound, weight) for bound, weight in pairs})

    def reached(level: Fraction) -> bool:
        top, bottom = level.numerator, level.denominator
        return bool(np.minimum(np.maximum(top * weight, least * bottom), most * bottom).sum() >= amount * bottom)

    first, last = 0, len(groups) - 1
    while first < last:
        middle = (first + last) // 2
        if reached(turns(middle)[-1]):
            last = middle
        else:
            first = middle + 1
    candidates = turns(first)
    upper = next((each for each in candidates if reached(each)), candidates[-1])
    left_behind = least * upper.denominator >= upper.numerator * weight
    full = ~left_behind & (most * upper.denominator < upper.numerator * weight)
    moving = int(weight[~left_behind & ~full].sum())
    if moving == 0:
        return upper
    return min(upper, Fraction(amount - int(least[left_behind].sum()) - int(most[full].sum()), moving))
