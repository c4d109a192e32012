"""How often a month's total lies within the range that was forecast on its tenth day, over made-up buyers: teams that
hire and lose people, seasons, projects that come and go, storage that grows and is cleaned up, weekends."""

from __future__ import annotations

import random
from calendar import monthrange
from datetime import date, timedelta
from decimal import Decimal

from bench.measured import Measure
from fair_ladle.core.forecasting import DayAhead, days_ahead, range_of, starts
from fair_ladle.core.pricing import Aggregate, Basis, BuyerDay, Rate, Tier, TierMode, charge, summed

BUYERS, SEEN_ON, BEFORE, SECONDS = 100, 10, 92, 86_400
BEGIN = date(2025, 1, 1)
MONTHS = [date(2025, month, 1) for month in range(5, 13)]
DAYS = 365


def _rate(basis: Basis, aggregate: Aggregate, *tiers: tuple[int, str]) -> Rate:
    made = tuple(Tier(Decimal(begin), Decimal(price)) for begin, price in tiers)
    return Rate("S", None, "P", BEGIN, basis, aggregate, TierMode.GRADUATED, made)


RATES = (
    _rate(Basis.HELD, Aggregate.AVERAGE, (0, "4"), (50, "3.5")),
    _rate(Basis.HELD, Aggregate.PEAK, (0, "11")),
    _rate(Basis.USED, Aggregate.P95, (0, "0.09"), (500, "0.07")),
    _rate(Basis.USED, Aggregate.AVERAGE, (0, "6")),
)


def _team(chance: random.Random, size: int) -> list[int]:
    """Seats: people come and go one by one, now and then some at once, as a project begins or ends."""
    found, now = [], size
    for _ in range(DAYS):
        if chance.random() < 0.08:
            now += chance.choice((1, 1, 1, -1, -1))
        if chance.random() < 0.006:
            now += chance.choice((1, -1)) * max(2, size // 6)
        now = max(1, now)
        found.append(now)
    return found


def _season(chance: random.Random, size: int) -> list[int]:
    """Seats that a summer doubles."""
    begin = chance.randrange(120, 200)
    return [each + size * (begin <= day < begin + 75) for day, each in enumerate(_team(chance, size))]


def _storage(chance: random.Random, size: int) -> list[int]:
    """GB that grow day by day and are cleaned up now and then."""
    found, now = [], float(size)
    for _ in range(DAYS):
        now += size * max(0.0, chance.gauss(0.002, 0.003))
        if chance.random() < 0.01:
            now *= chance.uniform(0.85, 0.98)
        found.append(round(now))
    return found


def _sessions(chance: random.Random, size: int) -> list[int]:
    """Sessions that are few at weekends."""
    return [
        max(0, round(chance.gauss(size, size / 6) * (0.3 if (BEGIN + timedelta(days=day)).weekday() > 4 else 1)))
        for day in range(DAYS)
    ]


def _days(units: list[int]) -> list[BuyerDay]:
    return [BuyerDay(SECONDS, each * SECONDS, each * SECONDS, 0, each * SECONDS, None) for each in units]


def measure() -> list[Measure]:
    """The share of buyer-months whose total lies within the range, and how wide the range is."""
    chance, inside, widths, misses = random.Random(12), 0, [], []
    for _ in range(BUYERS):
        size = chance.choice((4, 9, 25, 80))
        kinds = (_team, chance.choice((_team, _season)), _storage, _sessions)
        lives = [_days(kind(chance, size * (20 if kind is _storage else 1))) for kind in kinds]
        for first in MONTHS:
            begin, count = (first - BEGIN).days, monthrange(first.year, first.month)[1]
            read = begin + SEEN_ON

            def total(days: list[list[BuyerDay]], count: int = count) -> Decimal:
                charged = (
                    charge(rate, summed(rate, each, 1), 2, count) for rate, each in zip(RATES, days, strict=True)
                )
                return sum((each.amount for each in charged), Decimal(0))

            histories = [life[max(0, begin - BEFORE) : read] for life in lives]
            ahead = [DayAhead(SECONDS, 0, None, False)] * (count - SEEN_ON)
            found = range_of(
                [
                    total([history[-SEEN_ON:] + days_ahead(history, start, ahead) for history in histories])
                    for start in starts(len(histories[0]), len(ahead))
                ]
            )
            actual = total([life[begin : begin + count] for life in lives])
            inside += found.low <= actual <= found.high
            widths.append(float((found.high - found.low) / actual))
            misses.append(abs(float((found.likely - actual) / actual)))
    months = BUYERS * len(MONTHS)
    wide, missed = sorted(widths)[months // 2], sorted(misses)[months // 2]
    return [
        Measure(
            f"forecast seen on day {SEEN_ON}: {months} buyer-months",
            f"{inside / months:.1%} within the range",
            "to reach",
            "80 to 95 %",
            f"range {wide:.1%} wide, likely {missed:.1%} off (medians)",
        )
    ]
