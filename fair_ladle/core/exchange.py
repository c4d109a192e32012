"""Exchange rates by day: which one counts, and an amount in another currency, unrounded."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from fractions import Fraction


@dataclass(frozen=True)
class ExchangeRate:
    """From a day on, 1 ``of`` is ``rate`` ``into``."""

    day: date
    of: str
    into: str
    rate: Decimal


def exchange_rate(rates: Sequence[ExchangeRate], of: str, into: str, day: date) -> Fraction | None:
    """What 1 of a currency is in another one: by the newest rate of either direction not after a day, of one day by the
    one written that way round; never through a third currency. None where there is no such rate."""
    if of == into:
        return Fraction(1)
    fitting = [each for each in rates if each.day <= day and {each.of, each.into} == {of, into}]
    if not fitting:
        return None
    newest = max(fitting, key=lambda each: (each.day, each.of == of))
    return Fraction(newest.rate) if newest.of == of else 1 / Fraction(newest.rate)
