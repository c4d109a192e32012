"""The statements of buyers month by month: composed from the facts while a month is open, as they were charged once it
is closed, and what is learned later about a closed month as adjustments in the first that is open."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from functools import cached_property

from pydantic import TypeAdapter

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.statements import closed_store
from fair_ladle.app.statements.billing import BillingPeriod
from fair_ladle.app.statements.kept_books import closed_months, unpacked
from fair_ladle.app.statements.lines import Line
from fair_ladle.app.statements.particulars import Particulars
from fair_ladle.app.statements.rate_cards import decimals_of
from fair_ladle.core.calendar import month_after, month_of
from fair_ladle.core.pricing import Rate
from fair_ladle.core.quantities import plain
from fair_ladle.core.statement_lines import (
    ChargeTerms,
    Composed,
    CreditTerms,
    DiscountTerms,
    Kind,
    Owed,
    TaxStatus,
    compose,
    split_by_tax,
)

ByPercent = dict[Decimal | None, Decimal]
"""How much of an amount is taxed at which percentage (None = untaxed)."""
ADJUSTED = (Kind.USAGE, Kind.CHARGE, Kind.DISCOUNT)
"""What of a closed month is adjusted."""


@dataclass(frozen=True)
class Statement:
    """What one buyer owes one seller for a month in one currency; ``number`` None while the month is open."""

    seller: str
    buyer: str
    first: date
    last: date
    currency: str
    tax: TaxStatus
    lines: tuple[Line, ...]
    charges: tuple[ChargeTerms, ...]
    discounts: tuple[DiscountTerms, ...]
    composed: Composed
    number: str | None = None
    particulars: Particulars | None = None
    """Kept when it is closed."""

    @property
    def total(self) -> Decimal:
        """What is owed."""
        return self.composed.total

    def accounts(self) -> set[str]:
        """The accounts (codes) that have a part in it."""
        return {part.account for line in self.lines for part in line.shares}

    def amounts(self) -> list[tuple[Kind, str, ByPercent]]:
        """Every row with its amount by tax, discounts and credits below 0, in the order of the statement; an adjustment
        that is taxed at several percentages is one."""
        found: dict[tuple[Kind, str], ByPercent] = {}

        def add(kind: Kind, reference: str, percent: Decimal | None, amount: Decimal) -> None:
            mine = found.setdefault((kind, reference), {})
            mine[percent] = mine.get(percent, Decimal(0)) + amount

        def owed(*kinds: Kind) -> None:
            for each in self.composed.owed:
                if each.kind in kinds:
                    add(each.kind, each.reference, each.percent, each.amount)

        owed(Kind.USAGE, Kind.CHARGE)
        for discount in self.composed.discounts:
            for each, part in zip(self.composed.owed, discount.parts, strict=True):
                if part:
                    add(discount.kind, discount.reference, each.percent, -part)
        owed(Kind.ADJUSTMENT)
        for credit in self.composed.credits:
            add(credit.kind, credit.reference, None, -credit.amount)
        for tax in self.composed.taxes:
            add(Kind.TAX, tax.name, None, tax.amount)
        return [(kind, reference, by_percent) for (kind, reference), by_percent in found.items()]


statement_adapter = TypeAdapter(Statement)


def numbered(year: int, number: int) -> str:
    """A statement's number as it is written."""
    return f"{year}-{number:05d}"


def taxed_text(by_percent: Mapping[Decimal | None, Decimal]) -> str:
    """Amounts by tax as they are kept."""
    # Numbers need no escaping, and a line has one or two of them.
    of = (f'"{"" if each is None else plain(each)}": "{amount:f}"' for each, amount in by_percent.items())
    return f"{{{', '.join(of)}}}"


def taxed_amounts(text: str) -> ByPercent:
    """Amounts by tax as they were kept."""
    return {Decimal(each) if each else None: Decimal(amount) for each, amount in json.loads(text).items()}


@dataclass(frozen=True)
class _Charged:
    """A row of a closed statement."""

    first: date
    currency: str
    tax: TaxStatus
    kind: Kind
    reference: str
    amount: Decimal
    taxed: ByPercent


@dataclass(frozen=True)
class Sold:
    """A usage line without its amount: of which product, by which rate, and whether what it cost the seller is known in
    its currency."""

    product: Product
    rate: Rate
    has_cost: bool


@dataclass(frozen=True)
class More:
    """What more units (below 0: fewer) would do to a line, before tax, and to the statement it is on, with tax."""

    units: int
    currency: str
    line: Decimal
    total: Decimal


Wholes = dict[date, dict[str, BillingPeriod]]
"""Months of products (codes) with all buyers, which tell what each cost."""


class Ledger:
    """Statements of some buyers (codes; all, if not said), each month read once; ledgers of several parts of a
    seller's buyers share the ``wholes`` they need."""

    def __init__(self, tx: Transaction, buyers: Sequence[str] | None = None, wholes: Wholes | None = None):
        self._tx, self._buyers = tx, buyers
        self._wholes = {} if wholes is None else wholes
        self._periods: dict[date, BillingPeriod] = {}
        self._found: dict[tuple[str, str, date], tuple[Statement, ...]] = {}
        self._charged: dict[tuple[str, str | None], dict[str, list[_Charged]]] = {}
        self._changed: dict[tuple[str, date], bool] = {}

    def period(self, first: date) -> BillingPeriod:
        """The readings and rates of the month that begins on a day."""
        if first not in self._periods:
            last = month_of(f"{first:%Y-%m}")[1]
            whole = self._wholes.setdefault(first, {})
            self._periods[first] = BillingPeriod(self._tx, first, last, buyers=self._buyers, whole=whole)
        return self._periods[first]

    def _id(self, code: str) -> int:
        accounts = accounts_service.known(self._tx)
        return int(accounts.ids[accounts.tree.row(code)])

    def _code(self, account_id: int) -> str:
        accounts = accounts_service.known(self._tx)
        return accounts.tree.codes[accounts.row_of_id[account_id]]

    @cached_property
    def closed(self) -> dict[str, dict[date, str]]:
        """The closed months of every seller (code), each with what it was made of."""
        found: dict[str, dict[date, str]] = defaultdict(dict)
        for row in closed_months(self._tx):
            found[self._code(row.seller_id)][row.first_day] = row.made_of
        return dict(found)

    def first_open(self, seller: str) -> date | None:
        """The first month that a seller has not closed yet, where it has closed any."""
        months = self.closed.get(seller)
        return month_after(max(months)) if months else None

    def sellers(self, buyer: str, first: date) -> list[str]:
        """Who may have a statement for a buyer: its seller of the month, and who was it in a month that is closed."""
        period = self.period(first)
        found = [period.seller_of(buyer)] if buyer in period.accounts.tree else []
        if self.closed and buyer in accounts_service.known(self._tx).tree:
            former = closed_store.sellers_of(self._tx.connection, self._id(buyer))
            found += [code for each in former if (code := self._code(each)) not in found]
        return [each for each in found if each is not None]

    def statements(self, buyer: str, first: date) -> tuple[Statement, ...]:
        """All statements of a buyer for a month."""
        return tuple(each for seller in self.sellers(buyer, first) for each in self.of_seller(seller, buyer, first))

    def of_seller(self, seller: str, buyer: str, first: date) -> tuple[Statement, ...]:
        """A seller's statements for a buyer and month, by currency: as charged where the month is closed."""
        key = (seller, buyer, first)
        if key not in self._found:
            is_closed = first in self.closed.get(seller, {})
            self._found[key] = self._stored(*key) if is_closed else self._composed(*key)
        return self._found[key]

    def usage(self, period: BillingPeriod, buyer: str) -> list[tuple[str, Decimal, str]]:
        """Product (code), amount and currency of every usage line of a buyer."""
        return [(each.product.code, each.charge.amount, each.currency) for each in period.lines(buyer)]

    def lines(self, period: BillingPeriod, buyer: str, currency: str) -> tuple[Line, ...]:
        """A buyer's usage lines in a currency."""
        return tuple(each for each in period.lines(buyer) if each.currency == currency)

    def sold(self, period: BillingPeriod, buyer: str, currency: str) -> list[Sold]:
        """The same without their amounts."""
        return [
            Sold(each.product, each.rate, period.has_cost(buyer, each.product.code, currency))
            for each in self.lines(period, buyer, currency)
        ]

    def is_charged(self, period: BillingPeriod, buyer: str, product: str) -> bool:
        """Whether a buyer has a line for a product (code)."""
        return period.line(buyer, product) is not None

    def unpriced(self, period: BillingPeriod, buyer: str) -> list[Product]:
        """What a buyer had without a rate."""
        return period.unpriced(buyer)

    def _stored(self, seller: str, buyer: str, first: date) -> tuple[Statement, ...]:
        return tuple(
            statement_adapter.validate_json(unpacked(row.document)[0])
            for row in closed_store.documents_of(self._tx.connection, self._id(buyer), first)
            if row.seller_id == self._id(seller)
        )

    def with_more(self, seller: str, buyer: str, first: date, product: str, units: Sequence[int]) -> list[More]:
        """What so many units more (below 0: fewer) of a product, in use on every day of a month that counts, would do
        to a statement by today's facts; nothing where there is no line with a price."""
        period = self.period(first)
        line = period.line(buyer, product)
        amounts = [period.charged_with(buyer, product, each) for each in units]
        if line is None:
            return []

        def total(amount: Decimal) -> Decimal:
            found = self._composed(seller, buyer, first, {product: amount})
            return next(each.total for each in found if each.currency == line.currency)

        charged = line.charge.amount
        before = total(charged)
        return [
            More(more, line.currency, amount - charged, total(amount) - before)
            for more, amount in zip(units, amounts, strict=True)
            if amount is not None
        ]

    def _composed(
        self, seller: str, buyer: str, first: date, instead: Mapping[str, Decimal] | None = None
    ) -> tuple[Statement, ...]:
        """Statements from the facts; with ``instead`` as if these products (by code) came to something else."""
        period = self.period(first)
        tree = period.accounts.tree
        status = TaxStatus(period.accounts.facts[tree.row(buyer)].tax if buyer in tree else TaxStatus.NORMAL)
        owed = self._owed(period, seller, buyer, status, instead)
        if first == self.first_open(seller):
            for currency, adjustments in self._adjustments(seller, buyer).items():
                owed.setdefault(currency, []).extend(adjustments)
        terms = period.terms(seller)
        found = []
        for currency, mine in sorted(owed.items()):
            discounts = self._discounts(period, seller, buyer, currency)
            credits = [each for each in terms.credits.get(buyer, []) if each.currency == currency]
            given = self._given(seller, buyer, first, currency, [*discounts, *credits], mine)
            composed = compose(mine, discounts, credits, given, status, first, period.last, decimals_of(currency))
            lines = self.lines(period, buyer, currency) if buyer in tree and period.seller_of(buyer) == seller else ()
            named = {each.reference for each in mine if each.kind is Kind.CHARGE}
            charges = tuple(each for each in terms.charges.get(buyer, []) if each.reference in named)
            found.append(
                Statement(
                    seller, buyer, first, period.last, currency, status, lines, charges, tuple(discounts), composed
                )
            )
        return tuple(found)

    def _discounts(self, period: BillingPeriod, seller: str, buyer: str, currency: str) -> list[DiscountTerms]:
        found = period.terms(seller).discounts.get(buyer, [])
        return [each for each in found if each.currency in (None, currency)]

    def _owed(
        self,
        period: BillingPeriod,
        seller: str,
        buyer: str,
        status: TaxStatus,
        instead: Mapping[str, Decimal] | None = None,
    ) -> dict[str, list[Owed]]:
        """By currency, the usage lines of a buyer and its charges, each by its code point."""
        found: dict[str, list[Owed]] = {}
        if buyer not in period.accounts.tree or period.seller_of(buyer) != seller:
            return found
        terms = period.terms(seller)

        def percent(tax_class: str | None) -> Decimal | None:
            return terms.percent(tax_class, period.last) if status is TaxStatus.NORMAL else None

        for code, amount, currency in self.usage(period, buyer):
            amount = (instead or {}).get(code, amount)
            owed = Owed(Kind.USAGE, code, amount, percent(terms.tax_classes.get(code)))
            found.setdefault(currency, []).append(owed)
        for charge in sorted(terms.charges.get(buyer, []), key=lambda each: each.reference):
            if charge.is_in(period.first, period.last):
                amount = charge.amount(period.first, period.last, decimals_of(charge.currency))
                owed = Owed(Kind.CHARGE, charge.reference, amount, percent(charge.tax_class))
                found.setdefault(charge.currency, []).append(owed)
        return found

    # what was given before

    def _given(
        self,
        seller: str,
        buyer: str,
        first: date,
        currency: str,
        terms: Sequence[DiscountTerms | CreditTerms],
        owed: Sequence[Owed],
    ) -> dict[tuple[Kind, str], Decimal]:
        """What credits, and discounts with a ceiling, gave in every earlier month from their first day on: closed ones
        as charged with their adjustments, those of this month's statement too, and open ones as they come out today."""
        wanted: dict[tuple[Kind, str], date] = {}
        for each in terms:
            if isinstance(each, CreditTerms):
                wanted[Kind.CREDIT, each.reference] = each.first_day
            elif each.has_memory:
                wanted[Kind.DISCOUNT, each.reference] = each.first_day
        since = min((day.replace(day=1) for day in wanted.values()), default=first)
        since = max(since, self._earliest(seller, buyer, first))
        given = dict.fromkeys(wanted, Decimal(0))
        closed = self.closed.get(seller, {})
        month = since
        while wanted and month < first:
            if month not in closed:
                for statement in self.of_seller(seller, buyer, month):
                    if statement.currency == currency:
                        for taken in (*statement.composed.discounts, *statement.composed.credits):
                            if (taken.kind, taken.reference) in given:
                                given[taken.kind, taken.reference] += taken.amount
            month = month_after(month)
        if closed and wanted:
            for charged in self._rows(seller, buyer):
                if charged.currency == currency and charged.first < first:
                    self._count(given, charged.kind, charged.reference, charged.amount)
        for adjusted in owed:
            if adjusted.kind is Kind.ADJUSTMENT:
                self._count(given, adjusted.kind, adjusted.reference, adjusted.amount)
        return given

    @staticmethod
    def _count(given: dict[tuple[Kind, str], Decimal], kind: Kind, reference: str, amount: Decimal) -> None:
        """Count what a row took off, or what an adjustment made of it."""
        if kind is Kind.ADJUSTMENT:
            _, of, reference = reference.split(":", 2)
            kind = Kind(of)
            if kind is not Kind.DISCOUNT:
                return
        if (kind, reference) in given:
            given[kind, reference] -= amount

    def _earliest(self, seller: str, buyer: str, first: date) -> date:
        """The first month in which a seller can have charged a buyer anything."""
        period = self.period(first)
        days = [each.first_day for each in period.terms(seller).charges.get(buyer, [])]
        return min([*days, period.rate_cards.first_days.get(seller, first)]).replace(day=1)

    # adjustments

    def _rows(self, seller: str, buyer: str) -> list[_Charged]:
        """What a seller has charged a buyer in its closed months, as far as it can matter."""
        whose = buyer if self._buyers is not None else None
        if (seller, whose) not in self._charged:
            found: dict[str, list[_Charged]] = defaultdict(list)
            months = [each for each in self.closed.get(seller, {}) if self.is_changed(seller, each)]
            buyer_id = None if whose is None else self._id(whose)
            for row in closed_store.lines_of(self._tx.connection, self._id(seller), buyer_id, months):
                found[self._code(row.buyer_id)].append(
                    _Charged(
                        row.first_day,
                        row.currency,
                        TaxStatus(row.tax),
                        Kind(row.kind),
                        row.reference,
                        row.amount,
                        taxed_amounts(row.taxed),
                    )
                )
            self._charged[seller, whose] = found
        return self._charged[seller, whose].get(buyer, [])

    def adjusting(self, seller: str, buyer: str, first: date, before: date) -> list[Statement]:
        """A buyer's closed statements after a month, and before another, which may adjust it."""
        months = sorted(each for each in self.closed.get(seller, {}) if first < each < before)
        return [each for month in months for each in self.of_seller(seller, buyer, month)]

    def is_changed(self, seller: str, first: date) -> bool:
        """Whether facts of a closed month are others than it was closed with."""
        if (seller, first) not in self._changed:
            self._changed[seller, first] = is_made_of_other_facts(self._tx, first, self.closed[seller][first])
        return self._changed[seller, first]

    def _adjustments(self, seller: str, buyer: str) -> dict[str, list[Owed]]:
        """By currency, what the closed months of a buyer come to by today's facts less what was charged for them."""
        found: dict[str, list[Owed]] = {}
        for first in sorted(self.closed[seller]):
            if self.is_changed(seller, first):
                for currency, adjustments in self._adjusted(seller, buyer, first).items():
                    found.setdefault(currency, []).extend(adjustments)
        return found

    def _adjusted(self, seller: str, buyer: str, first: date) -> dict[str, list[Owed]]:
        period = self.period(first)
        rows = self._rows(seller, buyer)
        then = {
            (each.currency, each.kind, each.reference): each
            for each in rows
            if each.first == first and each.kind in ADJUSTED
        }
        prefix = f"{first:%Y-%m}:"
        since: dict[tuple[str, Kind, str], Decimal] = defaultdict(Decimal)
        for each in rows:
            if each.kind is Kind.ADJUSTMENT and each.reference.startswith(prefix):
                _, kind, reference = each.reference.split(":", 2)
                since[each.currency, Kind(kind), reference] += each.amount
        tree = period.accounts.tree
        present = TaxStatus(period.accounts.facts[tree.row(buyer)].tax if buyer in tree else TaxStatus.NORMAL)
        status = next((each.tax for each in rows if each.first == first), present)
        now: dict[tuple[str, Kind, str], ByPercent] = {}
        for currency, owed in self._owed(period, seller, buyer, status).items():
            discounts = self._discounts(period, seller, buyer, currency)
            taken = {(Kind.DISCOUNT, each.reference): Decimal(0) for each in discounts if each.has_memory}
            for each in rows:
                mine = each.reference.startswith(prefix) if each.kind is Kind.ADJUSTMENT else each.first == first
                if each.currency == currency and not mine:
                    self._count(taken, each.kind, each.reference, each.amount)
            composed = compose(owed, discounts, [], taken, status, first, period.last, decimals_of(currency))
            statement = Statement(seller, buyer, first, period.last, currency, status, (), (), (), composed)
            now.update(
                {
                    (currency, kind, reference): by_percent
                    for kind, reference, by_percent in statement.amounts()
                    if kind in ADJUSTED
                }
            )
        found: dict[str, list[Owed]] = {}
        order = {kind: place for place, kind in enumerate(ADJUSTED)}
        for key in sorted(then.keys() | now.keys() | since.keys(), key=lambda key: (key[0], order[key[1]], key[2])):
            currency, kind, reference = key
            was = then[key].amount if key in then else Decimal(0)
            differs = sum(now.get(key, {}).values(), Decimal(0)) - was - since[key]
            if differs:
                taxed = then[key].taxed if key in then else now.get(key, {})
                for percent, part in split_by_tax(differs, taxed, decimals_of(currency)).items():
                    named = f"{first:%Y-%m}:{kind}:{reference}"
                    found.setdefault(currency, []).append(Owed(Kind.ADJUSTMENT, named, part, percent))
        return found


def month_made_of(tx: Transaction, first: date) -> str:
    """What the facts of a month that is over are, of every product, as far as they change."""
    last = month_of(f"{first:%Y-%m}")[1]
    products = pools_service.products(tx)
    return json.dumps({each.code: f"{allocations.past(tx, each, last)} {each.spreads_idle:d}" for each in products})


def is_made_of_other_facts(tx: Transaction, first: date, made_of: str) -> bool:
    """Whether a month was made of other facts than it is now; of a product that came later it had none."""
    none = f"{generations.past(tx, (), first)} 0"
    then, now = json.loads(made_of), json.loads(month_made_of(tx, first))
    return any(then.get(code, none) != facts for code, facts in now.items())
