"""Pricing and days, as tables of cases in the trade's words."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from zoneinfo import ZoneInfo

import numpy as np
import pytest

from fair_ladle.core.allocations import Version, overlaps
from fair_ladle.core.calendar import FAR, MICRO, days_of, month_of
from fair_ladle.core.costing import Lot, pool_cost, share_cost
from fair_ladle.core.pricing import Aggregate, Basis, BuyerDay, Rate, Tier, TierMode, charge, rate_for, summed
from fair_ladle.core.quantities import plain, to_grains, to_units, units_to_micro
from fair_ladle.core.readings import counted_days, stored_days

DAY = 86400
TIERS = (Tier(Decimal(0), Decimal("3.90")), Tier(Decimal(50), Decimal("3.40")))


def rate(**other: object) -> Rate:
    terms = {
        "seller": "MSP",
        "buyer": None,
        "product": "MAIL",
        "first_day": date(2026, 1, 1),
        "basis": Basis.HELD,
        "aggregate": Aggregate.AVERAGE,
        "tier_mode": TierMode.GRADUATED,
        "tiers": TIERS,
    }
    return Rate(**(terms | other))  # type: ignore[arg-type]


def day(
    load: int,
    held: int | None = None,
    reserve: int = 0,
    used: int | None = None,
    cap: int | None = None,
    hours: int = 24,
) -> BuyerDay:
    seconds = hours * 3600
    held = load if held is None else held
    used = load if used is None else used
    return BuyerDay(
        seconds,
        load * seconds,
        held * seconds,
        reserve * seconds,
        used * seconds,
        None if cap is None else cap * seconds,
    )


CHARGES = [
    ("held, graduated over two tiers", rate(), [day(60)] * 30, "60", "0", "229.00"),
    ("held, all at the tier reached", rate(tier_mode=TierMode.VOLUME), [day(60)] * 30, "60", "0", "204.00"),
    (
        "exactly at a tier's edge the new price holds",
        rate(tier_mode=TierMode.VOLUME),
        [day(50)] * 30,
        "50",
        "0",
        "170.00",
    ),
    ("a promise is charged though nobody uses it", rate(), [day(3, held=10, reserve=10)], "10", "0", "39.00"),
    ("the highest day", rate(aggregate=Aggregate.PEAK), [day(1), day(9), day(2)], "9", "0", "35.10"),
    (
        "nearest rank at the 95th percentile of 20 days is the 19th",
        rate(aggregate=Aggregate.P95),
        [day(n) for n in range(1, 21)],
        "19",
        "0",
        "74.10",
    ),
    ("a day of 25 hours weighs more", rate(), [day(1, hours=25), day(0, hours=23)], "0.520833", "0", "2.03"),
    ("past the cap at the overage price", rate(overage_price=Decimal("4.90")), [day(12, cap=10)], "10", "2", "48.80"),
    ("no overage price, no overage", rate(), [day(12, cap=10)], "12", "0", "46.80"),
    (
        "reserved pays the reserve, and use past it",
        rate(basis=Basis.RESERVED, overage_price=Decimal(40)),
        [day(7, reserve=5, used=7)],
        "5",
        "2",
        "99.50",
    ),
    ("included first", rate(included=Decimal(8)), [day(10)], "10", "0", "7.80"),
    ("the minimum, then the fee", rate(minimum=Decimal(12), fixed_fee=Decimal("1.005")), [day(1)], "1", "0", "13.01"),
    ("nothing held, still the minimum", rate(minimum=Decimal(4)), [day(0)], "0", "0", "4.00"),
]


@pytest.mark.parametrize(
    ("what", "terms", "days", "quantity", "past_cap", "amount"), CHARGES, ids=[case[0] for case in CHARGES]
)
def test_what_a_buyer_is_charged(
    what: str, terms: Rate, days: list[BuyerDay], quantity: str, past_cap: str, amount: str
) -> None:
    found = charge(terms, summed(terms, days, 1), decimals=2, period_days=31)
    assert (found.quantity, found.overage_quantity, str(found.amount)) == (Decimal(quantity), Decimal(past_cap), amount)


def test_the_rate_of_the_buyer_goes_first_then_the_newest() -> None:
    general, newer, late = rate(), rate(first_day=date(2026, 9, 1)), rate(first_day=date(2026, 10, 2))
    own = rate(buyer="TERN", first_day=date(2026, 2, 1))
    october = date(2026, 10, 1)
    assert rate_for([general, newer, late], "MSP", "TERN", "MAIL", october) is newer
    assert rate_for([general, newer, own], "MSP", "TERN", "MAIL", october) is own
    assert rate_for([own], "MSP", "FENWICK", "MAIL", october) is None


def test_a_day_that_changes_to_or_from_summer_time() -> None:
    lisbon = ZoneInfo("Europe/Lisbon")
    hours = {
        d.date: d.seconds // 3600
        for first, last in (month_of("2026-03"), month_of("2026-10"))
        for d in days_of(first, last, lisbon)
    }
    assert [on for on, length in hours.items() if length != 24] == [date(2026, 3, 29), date(2026, 10, 25)]
    assert (hours[date(2026, 3, 29)], hours[date(2026, 10, 25)]) == (23, 25)
    with pytest.raises(ValueError, match="no month"):
        month_of("2026-1")


def test_seconds_in_use_and_average_bytes() -> None:
    days = days_of(date(2026, 1, 1), date(2026, 1, 2), ZoneInfo("UTC"))
    start = days[0].start * MICRO
    half = start + DAY // 2 * MICRO
    own = counted_days(1, np.array([0, 0]), np.array([start, half]), np.array([half, FAR]), days)
    assert own.tolist() == [[DAY, DAY]]
    # half a day 1 499 999 bytes: on average 749 999.5, which is 1 MB; then for good
    stored = stored_days(1, np.array([0]), np.array([0]), np.array([half]), np.array([1_499_999]), days)
    assert (stored // DAY).tolist() == [[1, 1]]
    assert (
        stored_days(1, np.array([0]), np.array([0]), np.array([half]), np.array([999_999]), days) // DAY
    ).tolist() == [[0, 1]]


def test_what_a_pool_cost_and_who_bears_it() -> None:
    lots = [
        Lot("A", 10, Decimal(10), date(2026, 1, 1), None, Decimal("1.005")),
        Lot("B", 10, Decimal(10), date(2026, 10, 16), date(2026, 10, 20), Decimal(31)),
    ]
    cost = pool_cost(lots, date(2026, 10, 1), date(2026, 10, 31), 2)
    assert cost == Decimal("60.05")
    rows = share_cost(cost, ("MSP", 0), [("A", 1), ("B", 1)], 3, 2)
    assert [(row.account, str(row.cost)) for row in rows] == [
        ("MSP", "0.00"),
        ("A", "20.02"),
        ("B", "20.02"),
        (None, "20.01"),
    ]
    assert [str(row.cost) for row in share_cost(cost, ("MSP", 0), [("A", 1), ("B", 1)], 3, 2, spread_idle=True)] == [
        "0.00",
        "30.03",
        "30.02",
    ]


def test_versions_that_overlap_are_found_even_apart() -> None:
    long = Version("A", date(2026, 1, 1), None)
    short, later = Version("A", date(2026, 2, 1), date(2026, 2, 2)), Version("A", date(2026, 3, 1), None)
    assert overlaps([later, short, long]) == [(long, short), (long, later)]
    assert overlaps([short, later]) == []


def test_quantities_round_half_up_once() -> None:
    assert str(units_to_micro(1, 2 * 10**6, 1)) == "0.000001"
    assert str(units_to_micro(0, 0, 1)) == "0.000000"


@pytest.mark.parametrize(
    ("units", "measure", "grains", "said"),
    [
        ("12", "seat", 12, "12"),
        ("3.500", "storage", 3500, "3.5"),
        ("100", "storage", 100_000, "100"),
        ("0.001", "storage", 1, "0.001"),
        ("0.0001", "storage", None, ""),
        ("1.5", "seat", None, ""),
    ],
)
def test_units_are_whole_grains_or_refused(units: str, measure: str, grains: int | None, said: str) -> None:
    if grains is None:
        with pytest.raises(ValueError, match="finer than"):
            to_grains(Decimal(units), measure)
        return
    assert to_grains(Decimal(units), measure) == grains and plain(to_units(grains, measure)) == said
