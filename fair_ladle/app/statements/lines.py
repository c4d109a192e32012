"""A buyer's line for a product, with its days, and whose part of it is what."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from functools import lru_cache

import numpy as np

from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.pools.service import Product
from fair_ladle.core.pricing import Charge, Rate
from fair_ladle.core.quantities import micro_text
from fair_ladle.core.tree import Ints


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
    places: Ints
    together: Ints

    @staticmethod
    def of(currency: str, decimals: int, places: Sequence[int], parts: Sequence[int]) -> PlacedLine:
        """Of parts in minor units by place; those without one (-1) are nobody's here."""
        at = np.array(places, dtype=np.int64)
        order = np.argsort(at)[np.count_nonzero(at < 0) :]
        together = np.cumsum(np.array(parts, dtype=np.int64)[order])
        return PlacedLine(currency, decimals, at[order], np.concatenate([[0], together]))

    def of_branches(self, accounts: Accounts, tops: Sequence[str]) -> list[Decimal]:
        """What each of these accounts (codes) and those below it have of it."""
        tree = accounts.tree
        rows = np.array([tree.row(each) for each in tops], dtype=np.int64)
        first = tree.depth_first[rows]
        begin, end = np.searchsorted(self.places, [first, first + tree.branch_size[rows]])
        parts = (self.together[end] - self.together[begin]).tolist()
        return [Decimal(part).scaleb(-self.decimals) for part in parts]
