"""What stands on a statement beside its usage lines, as cases in the trade's words; and what must always hold."""

from __future__ import annotations

from datetime import date
from decimal import Decimal
from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fair_ladle.core.exchange import ExchangeRate, exchange_rate
from fair_ladle.core.pricing import Aggregate, Basis, BuyerDay, Fees, Rate, Tier, TierMode, charge, summed
from fair_ladle.core.quantities import half_up_exactly
from fair_ladle.core.statement_lines import (
    ChargeTerms,
    Composed,
    CreditTerms,
    DiscountTerms,
    Every,
    Kind,
    Owed,
    TaxStatus,
    compose,
    split_by_tax,
)

FIRST, LAST = date(2026, 6, 1), date(2026, 6, 30)
JANUARY = date(2026, 1, 1)


def money(text: str) -> Decimal:
    return Decimal(text)


def owed(*amounts: str, percent: str | None = "23") -> list[Owed]:
    return [Owed(Kind.USAGE, f"P{n}", money(each), percent and money(percent)) for n, each in enumerate(amounts)]  # type: ignore[arg-type]


def discount(percent: str, product: str | None = None, ceiling: str | None = None, **days: date) -> DiscountTerms:
    reference = f"D{percent}{product or ''}"
    of = {"first_day": JANUARY, "last_day": None} | days
    return DiscountTerms(reference, product, money(percent), **of, ceiling=ceiling and money(ceiling))  # type: ignore[arg-type]


def credit(amount: str, last_day: date | None = None) -> CreditTerms:
    return CreditTerms(f"C{amount}", money(amount), "EUR", JANUARY, last_day)


def composed(
    lines: list[Owed],
    discounts: tuple[DiscountTerms, ...] = (),
    credits: tuple[CreditTerms, ...] = (),
    given: dict[tuple[Kind, str], Decimal] | None = None,
    status: TaxStatus = TaxStatus.NORMAL,
) -> Composed:
    return compose(lines, discounts, credits, given or {}, status, FIRST, LAST, 2)


CASES = [
    ("tax on the whole", composed(owed("100.00")), [], [], [("23", "23.00")], "123.00"),
    ("ten percent off", composed(owed("100.00"), (discount("10"),)), ["10.00"], [], [("23", "20.70")], "110.70"),
    (
        "off one product alone",
        composed(owed("100.00", "50.00"), (discount("10", "P1"),)),
        ["5.00"],
        [],
        [("23", "33.35")],
        "178.35",
    ),
    (
        "off for half the month",
        composed(owed("100.00"), (discount("10", first_day=date(2026, 6, 16)),)),
        ["5.00"],
        [],
        [("23", "21.85")],
        "116.85",
    ),
    (
        "a second discount is of the whole, and takes what is left",
        composed(owed("100.00"), (discount("70"), discount("80"))),
        ["70.00", "30.00"],
        [],
        [("23", "0.00")],
        "0.00",
    ),
    (
        "no more than the ceiling leaves",
        composed(owed("100.00"), (discount("10", ceiling="25"),), given={(Kind.DISCOUNT, "D10"): money("18")}),
        ["7.00"],
        [],
        [("23", "21.39")],
        "114.39",
    ),
    ("a credit down to nothing", composed(owed("40.00"), (), (credit("50"),)), [], ["40.00"], [("23", "0.00")], "0.00"),
    (
        "what is left of a credit",
        composed(owed("40.00"), (), (credit("50"),), {(Kind.CREDIT, "C50"): money("45")}),
        [],
        ["5.00"],
        [("23", "8.05")],
        "43.05",
    ),
    (
        "a credit that is over",
        composed(owed("40.00"), (), (credit("50", date(2026, 5, 31)),)),
        [],
        [],
        [("23", "9.20")],
        "49.20",
    ),
    (
        "reverse charge",
        composed(owed("40.00"), status=TaxStatus.REVERSE_CHARGE),
        [],
        [],
        [("reverse_charge", "0.00")],
        "40.00",
    ),
    ("a class without a percentage is untaxed", composed(owed("40.00", percent=None)), [], [], [], "40.00"),
    (
        "below nothing it draws no credit, and its tax is below nothing",
        composed(
            [*owed("10.00"), Owed(Kind.ADJUSTMENT, "2026-05:usage:P0", money("-30.00"), money("23"))],
            (),
            (credit("50"),),
        ),
        [],
        [],
        [("23", "-4.60")],
        "-24.60",
    ),
    ("nothing owed, no row at all", composed([], (discount("10"),), (credit("5"),)), [], [], [], "0"),
]


@pytest.mark.parametrize(
    ("what", "found", "discounts", "credits", "taxes", "total"), CASES, ids=[case[0] for case in CASES]
)
def test_a_statement(
    what: str,
    found: Composed,
    discounts: list[str],
    credits: list[str],
    taxes: list[tuple[str, str]],
    total: str,
) -> None:
    assert [str(each.amount) for each in found.discounts] == discounts
    assert [str(each.amount) for each in found.credits] == credits
    assert [(each.name, str(each.amount)) for each in found.taxes] == taxes
    assert found.total == money(total) and found.net == found.total - sum(
        (each.amount for each in found.taxes), Decimal(0)
    )


AMOUNTS = st.lists(st.decimals(min_value=0, max_value=10_000, places=2), min_size=1, max_size=6)


@given(
    AMOUNTS,
    st.lists(st.integers(0, 100), max_size=3),
    st.lists(st.decimals(min_value=0, max_value=5_000, places=2), max_size=3),
)
def test_what_is_taken_off_adds_up_and_never_takes_more_than_there_is(
    amounts: list[Decimal], percents: list[int], credits: list[Decimal]
) -> None:
    lines = [Owed(Kind.USAGE, f"P{n}", each, money("23") if n % 2 else None) for n, each in enumerate(amounts)]
    off = [DiscountTerms(f"D{n}", None, Decimal(each), JANUARY, None) for n, each in enumerate(percents)]
    paid = [CreditTerms(f"C{n}", each, "EUR", JANUARY, None) for n, each in enumerate(credits)]
    found = composed(lines, tuple(off), tuple(paid))
    for each in (*found.discounts, *found.credits):
        assert each.amount > 0 and sum(each.parts, Decimal(0)) == each.amount
    assert found.net >= 0
    untaxed = sum((line.amount for line in lines if line.percent is None), Decimal(0)) - sum(
        (
            part
            for each in (*found.discounts, *found.credits)
            for line, part in zip(lines, each.parts, strict=True)
            if line.percent is None
        ),
        Decimal(0),
    )
    assert untaxed + sum((each.base for each in found.taxes), Decimal(0)) == found.net


def test_charges_once_and_every_month() -> None:
    def terms(**other: object) -> ChargeTerms:
        of = {"quantity": Decimal(2), "unit_price": money("10.005"), "currency": "EUR", "last_day": None}
        return ChargeTerms("R", "", None, **({"first_day": date(2026, 6, 16)} | of | other))  # type: ignore[arg-type]

    once, monthly = terms(), terms(every=Every.MONTH, fees=Fees.BY_DAY)
    assert once.is_in(FIRST, LAST) and not once.is_in(date(2026, 7, 1), date(2026, 7, 31))
    assert monthly.is_in(date(2026, 7, 1), date(2026, 7, 31)) and not monthly.is_in(date(2026, 5, 1), date(2026, 5, 31))
    assert (once.amount(FIRST, LAST, 2), monthly.amount(FIRST, LAST, 2)) == (money("20.01"), money("10.01"))
    assert terms(every=Every.MONTH).amount(FIRST, LAST, 2) == money("20.01")


def test_an_adjustment_is_taxed_as_its_line_was() -> None:
    was = {money("23"): money("-7.00"), None: money("-3.00")}
    assert split_by_tax(money("-1.01"), was, 2) == {money("23"): money("-0.71"), None: money("-0.30")}
    assert split_by_tax(money("5"), {}, 2) == {None: money("5.00")}


def test_the_newest_rate_of_either_direction() -> None:
    rates = [
        ExchangeRate(date(2026, 5, 1), "EUR", "USD", money("1.10")),
        ExchangeRate(date(2026, 6, 1), "USD", "EUR", money("0.8")),
        ExchangeRate(date(2026, 6, 1), "EUR", "USD", money("1.2")),
        ExchangeRate(date(2026, 7, 1), "EUR", "USD", money("9")),
        ExchangeRate(date(2026, 1, 1), "USD", "JPY", money("150")),
    ]
    assert exchange_rate(rates, "EUR", "USD", LAST) == Fraction(6, 5), "of one day, as it is written"
    assert exchange_rate(rates, "USD", "EUR", LAST) == Fraction(4, 5)
    assert exchange_rate(rates[:1], "USD", "EUR", LAST) == Fraction(10, 11), "the inverse where only that exists"
    assert exchange_rate(rates, "EUR", "JPY", LAST) is None, "never through a third"
    assert exchange_rate([], "EUR", "EUR", LAST) == 1


def card(**other: object) -> Rate:
    terms = {"basis": Basis.HELD, "aggregate": Aggregate.AVERAGE, "tier_mode": TierMode.GRADUATED}
    tiers = (Tier(Decimal(0), Decimal(10)),)
    return Rate("MSP", "TERN", "MAIL", JANUARY, **({"tiers": tiers} | terms | other))  # type: ignore[arg-type]


PRICED = [
    ("included 5, committed 20, held 22", card(included=Decimal(5), committed=Decimal(20)), 22, None, "200.00"),
    ("held more than is committed", card(included=Decimal(5), committed=Decimal(3)), 22, None, "170.00"),
    ("nothing held, committed all the same", card(committed=Decimal(4)), 0, None, "40.00"),
    ("a fee by day, on 10 of 30 days", card(fixed_fee=Decimal(31), fees=Fees.BY_DAY), 1, None, "20.33"),
    (
        "a minimum by day",
        card(minimum=Decimal(90), fees=Fees.BY_DAY, tiers=(Tier(Decimal(0), Decimal(0)),)),
        1,
        None,
        "30.00",
    ),
    ("a markup", card(markup=Decimal("12.5"), tiers=()), 3, Fraction(200, 3), "75.00"),
    ("a markup with its fee", card(markup=Decimal(0), tiers=(), fixed_fee=Decimal(5)), 3, Fraction(10), "15.00"),
    (
        "a markup whose cost is not known is nothing",
        card(markup=Decimal(5), tiers=(), fixed_fee=Decimal(5)),
        3,
        None,
        "0.00",
    ),
]


@pytest.mark.parametrize(("what", "terms", "held", "cost", "amount"), PRICED, ids=[case[0] for case in PRICED])
def test_cards_in_full(what: str, terms: Rate, held: int, cost: Fraction | None, amount: str) -> None:
    by_day = terms.fees is Fees.BY_DAY
    days = [BuyerDay(10, held * 10, held * 10, 0, held * 10, None, n < 10 or not by_day) for n in range(30)]
    assert str(charge(terms, summed(terms, days, 1), 2, 30, cost).amount) == amount


def test_halves_go_away_from_nothing() -> None:
    cases = {
        Fraction(-2345, 1000): "-2.35",
        Fraction(2345, 1000): "2.35",
        Fraction(-1, 3): "-0.33",
        Fraction(0): "0.00",
    }
    assert {each: str(half_up_exactly(each, 2)) for each in cases} == cases
