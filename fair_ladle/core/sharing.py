"""Sharing whole grains (or minor units of money) out, exactly and the same on every run."""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum
from fractions import Fraction


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
            min(most, max(least, need))
            for need, least, most in zip(needs or [0] * len(low), low, high, strict=True)
        ]
        if sum(wanted) >= amount:
            return _fill(amount, weights, low, wanted, by_level=True)
        return _fill(amount, weights, wanted, high, by_level=True)
    return _fill(amount, weights, low, high, by_level=mode is Mode.MAX_MIN)


def _fill(
    amount: int, weights: Sequence[int], low: Sequence[int], high: Sequence[int], by_level: bool
) -> list[int]:
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
            amount - sum(high[place] for place in weighted), [1] * len(idle),
            [low[place] for place in idle], [high[place] for place in idle], by_level,
        )
        for place, part in zip(idle, rest, strict=True):
            parts[place] = part
        return parts
    target = amount - (sum(low) - sum(low[place] for place in weighted))
    filled = _fill_weighted(
        target, [weights[place] for place in weighted],
        [low[place] for place in weighted], [high[place] for place in weighted], by_level,
    )
    for place, part in zip(weighted, filled, strict=True):
        parts[place] = part
    return parts


def _fill_weighted(
    amount: int, weights: Sequence[int], low: Sequence[int], high: Sequence[int], by_level: bool
) -> list[int]:
    if not weights:
        return []
    top, bottom = _level(amount, weights, low, high)
    parts, open_places = [], []
    for place, weight in enumerate(weights):
        part, over = divmod(top * weight, bottom)
        if part < low[place]:
            parts.append(low[place])
        elif part >= high[place]:
            parts.append(high[place])
        else:
            parts.append(part)
            open_places.append((place, over))
    if by_level:
        rest = sorted(
            (Fraction(parts[place] + 1, weights[place]), -weights[place], place) for place, _ in open_places
        )
    else:
        rest = sorted((Fraction(-over), -weights[place], place) for place, over in open_places)
    for _, _, place in rest[: amount - sum(parts)]:
        parts[place] += 1
    return parts


def _level(
    amount: int, weights: Sequence[int], low: Sequence[int], high: Sequence[int]
) -> tuple[int, int]:
    """The level, as an exact fraction, at which Σ clamp(level × weight, low, high) = amount.

    Between two neighbouring turning points (a low left behind, a high reached) the sum is a straight
    line; a binary search over the turning points finds the piece.
    """
    turns = sorted(
        {Fraction(bound, weight) for bounds in (low, high) for bound, weight in zip(bounds, weights, strict=True)}
    )

    def reached(level: Fraction) -> bool:
        top, bottom = level.numerator, level.denominator
        have = sum(
            min(max(top * weight, least * bottom), most * bottom)
            for weight, least, most in zip(weights, low, high, strict=True)
        )
        return have >= amount * bottom

    first, last = 0, len(turns) - 1
    while first < last:
        middle = (first + last) // 2
        if reached(turns[middle]):
            last = middle
        else:
            first = middle + 1
    upper = turns[first]
    fixed = moving = 0
    for weight, least, most in zip(weights, low, high, strict=True):
        if Fraction(least, weight) >= upper:
            fixed += least
        elif Fraction(most, weight) < upper:
            fixed += most
        else:
            moving += weight
    if moving == 0:
        return upper.numerator, upper.denominator
    level = min(upper, Fraction(amount - fixed, moving))
    return level.numerator, level.denominator
