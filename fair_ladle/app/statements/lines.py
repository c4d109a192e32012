"""A buyer's line for a product, with its days, and whose part of it is what."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from functools import lru_cache
from itertools import accumulate

from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.pools.service import Product
from fair_ladle.core.pricing import Charge, Rate
from fair_ladle.core.quantities import micro_text


@dataclass(frozen=True)
class Share:
    """An account's part of a line: its part of the weights in units, and its part of the amount."""

    account: str
    quantity: Decimal
    amount: Decimal


@lru_cache(maxsize=16_384)
def _in_units(grains: int, seconds: int, per_unit: int) -> str:
    """Most days of most lines have figures that others have too."""
    return micro_text(grains, seconds, per_unit)


@dataclass(frozen=True)
class LineDay:
    """A day of a line: averages over it in units, to 6 decimals; ``cap`` None = no cap."""

    day: date
    hours: int
    used: str
    load: str
    held: str
    reserve: str
    cap: str | None


@lru_cache(maxsize=65_536)
def line_day(
    day: date, seconds: int, used: int, load: int, held: int, reserve: int, cap: int, per_unit: int
) -> LineDay:
    """Many lines have the same of a day."""
    return LineDay(
        day,
        seconds // 3600,
        _in_units(used, seconds, per_unit),
        _in_units(load, seconds, per_unit),
        _in_units(held, seconds, per_unit),
        _in_units(reserve, 1, per_unit),
        None if cap < 0 else _in_units(cap, seconds, per_unit),
    )


@dataclass(frozen=True)
class Line:
    """A buyer's charge for one product; a line that is kept has its days with it."""

    product: Product
    rate: Rate
    currency: str
    charge: Charge
    shares: tuple[Share, ...]
    days: tuple[LineDay, ...] = ()

    def with_days(self, days: tuple[LineDay, ...]) -> Line:
        """The same with its days."""
        return Line(self.product, self.rate, self.currency, self.charge, self.shares, days)


@dataclass(frozen=True)
class PlacedLine:
    """A line's amount over the accounts that have a part in it: their places in tree order, and what those before each
    have together, in minor units."""

    currency: str
    decimals: int
    places: list[int]
    together: list[int]

    @staticmethod
    def of(currency: str, decimals: int, places: Sequence[int], parts: Sequence[int]) -> PlacedLine:
        """Of parts in minor units by place; those without one (-1) are nobody's here."""
        at = sorted((place, part) for place, part in zip(places, parts, strict=True) if place >= 0)
        together = list(accumulate((part for _, part in at), initial=0))
        return PlacedLine(currency, decimals, [place for place, _ in at], together)

    def of_branch(self, accounts: Accounts, account: str) -> Decimal:
        """What an account and those below it have of it."""
        tree = accounts.tree
        row = tree.row(account)
        first = int(tree.depth_first[row])
        begin = bisect_left(self.places, first)
        end = bisect_left(self.places, first + int(tree.branch_size[row]), begin)
        return Decimal(self.together[end] - self.together[begin]).scaleb(-self.decimals)
