"""Units and grains. Counted: 1 unit = 1 grain. Storage: the unit is GB (10^9 bytes), the grain MB (10^6)."""

from __future__ import annotations

from decimal import ROUND_HALF_UP, Decimal
from fractions import Fraction

STORAGE = "storage"
BYTES_PER_GRAIN = 10**6
GRAINS_PER_GB = 1000
MOST_GRAINS = 10**11
"""The largest quantity taken in anywhere: a hundred petabytes, or as many units."""


def grains_per_unit(measure: str) -> int:
    """How many grains one unit of a product with this measure has."""
    return GRAINS_PER_GB if measure == STORAGE else 1


def to_grains(units: Decimal, measure: str) -> int:
    """Units as whole grains; ValueError where they do not come out whole."""
    grains = units * grains_per_unit(measure)
    if grains != grains.to_integral_value():
        finest = "3 decimals" if measure == STORAGE else "whole units"
        raise ValueError(f"{units} is finer than {finest}")
    return int(grains)


def to_units(grains: int, measure: str) -> Decimal:
    """Grains as units, exactly, without trailing zeros."""
    if measure != STORAGE:
        return Decimal(grains)
    return (Decimal(grains) / GRAINS_PER_GB).quantize(Decimal("0.001")).normalize() + Decimal(0)


def units_to_micro(numerator: int, denominator: int, per_unit: int) -> Decimal:
    """An exact fraction of grains in units, rounded half up to 6 decimals."""
    return Decimal(_micro(numerator, denominator, per_unit)).scaleb(-6)


def micro_text(numerator: int, denominator: int, per_unit: int) -> str:
    """The same, of what is not below 0, as text."""
    whole, rest = divmod(_micro(numerator, denominator, per_unit), 10**6)
    return f"{whole}.{rest:06d}"


def _micro(numerator: int, denominator: int, per_unit: int) -> int:
    below = denominator * per_unit
    return 0 if below == 0 else (2 * numerator * 10**6 + below) // (2 * below)


def half_up(amount: Decimal, decimals: int) -> Decimal:
    """Rounded once, half up, to so many decimals."""
    return amount.quantize(Decimal(1).scaleb(-decimals), rounding=ROUND_HALF_UP)


def short(number: Decimal) -> Decimal:
    """A decimal without trailing zeros or an exponent above 0."""
    return number.normalize() + Decimal(0)


def half_up_exactly(amount: Fraction, decimals: int) -> Decimal:
    """An exact amount rounded once to so many decimals, halves away from zero."""
    top, bottom = abs(amount.numerator) * 10**decimals, amount.denominator  # a product of fractions is shortened first
    minor = (2 * top + bottom) // (2 * bottom)
    return Decimal(-minor if amount < 0 else minor).scaleb(-decimals)


def plain(number: Decimal) -> str:
    """A decimal as people write it: no exponent, no trailing zeros."""
    text = f"{number:f}"
    return text.rstrip("0").rstrip(".") if "." in text else text
