"""The prices of a seller: which card prices what for whom, what a change would have charged, and what a buyer pays."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import date
from decimal import Decimal

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import invalid
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.statements.billing import BillingPeriod
from fair_ladle.app.statements.rate_cards import RateCards
from fair_ladle.core.calendar import month_before, month_of
from fair_ladle.core.pricing import Rate

MONTHS = 12


@dataclass(frozen=True)
class Card:
    """A rate with its currency, and from when on another one follows it (None = none yet)."""

    rate: Rate
    currency: str
    next_day: date | None


@dataclass(frozen=True)
class Prices:
    """What a seller charges today whoever has no card of its own."""

    seller: str
    seller_name: str
    currency: str
    products: list[Product]
    drawn: set[int]
    """Those of the products (ids) that buyers can draw: without a pool above them nobody is charged."""
    count: int
    """How many buyers it has."""
    charges: bool
    """Whether it has any card, were it of a single buyer."""
    cards: list[Card]


@dataclass(frozen=True)
class BuyerPrices:
    """A buyer with the cards of its own."""

    buyer: str
    name: str
    kind: str
    cards: list[Card]


@dataclass(frozen=True)
class BuyersSought:
    """Which of a seller's buyers: those with these words in their name or code, of a kind, or one alone (its code)."""

    words: str = ""
    kind: str | None = None
    only: str | None = None


def prices(tx: Transaction, actor: Actor, seller: str) -> Prices:
    """A seller's prices, for whoever runs it or an account above it."""
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, seller)
    cards, today = RateCards(tx, accounts), accounts_service.today(tx)
    mine = [each for each in cards.rates if each.seller == seller]
    general = [each for each in mine if each.buyer is None]
    return Prices(
        seller,
        accounts.name(row),
        str(accounts.inherited(row, "currency") or ""),
        pools_service.products(tx),
        pools_service.drawn_below(tx, accounts, [row])[row],
        len(_below(accounts, row)),
        bool(mine),
        [Card(each, cards.currency(each), following) for each, following in _in_force(general, today)],
    )


def _below(accounts: Accounts, row: int) -> list[int]:
    """The rows of the buyers of an account, in tree order."""
    tree = accounts.tree
    branch = tree.branch(row)
    mine = branch[tree.parent[branch] == row]
    return sorted((each for each in mine.tolist() if each != row), key=lambda each: int(tree.depth_first[each]))


def buyers(
    tx: Transaction, actor: Actor, seller: str, sought: BuyersSought, offset: int, limit: int | None
) -> tuple[int, list[BuyerPrices]]:
    """A part of a seller's buyers in tree order with the cards of their own, for whoever runs it or an account above;
    how many there are of these."""
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, seller)
    words, tree = sought.words.lower().split(), accounts.tree
    found = [
        each
        for each in _below(accounts, row)
        if (sought.kind is None or accounts.facts[each].kind == sought.kind)
        and (sought.only is None or tree.codes[each] == sought.only)
        and all(word in f"{accounts.name(each)} {tree.codes[each]}".lower() for word in words)
    ]
    shown = found[offset : None if limit is None else offset + limit]
    named, cards = {tree.codes[each] for each in shown}, RateCards(tx, accounts)
    own: dict[str, list[Card]] = {}
    mine = [each for each in cards.rates if each.seller == seller and each.buyer in named]
    for rate, following in _in_force(mine, accounts_service.today(tx)):
        own.setdefault(str(rate.buyer), []).append(Card(rate, cards.currency(rate), following))
    return len(found), [
        BuyerPrices(code, accounts.name(each), str(accounts.facts[each].kind), own.get(code, []))
        for each in shown
        for code in (tree.codes[each],)
    ]


def in_force(
    tx: Transaction, actor: Actor, seller: str, words: str
) -> list[tuple[BuyerPrices | None, Product, Card, Card | None]]:
    """What a seller charges today: of everybody (None) and of each buyer with these words, product by product, the card
    in force and the one of the buyer's own, which may only be to come."""
    head, today = prices(tx, actor, seller), accounts_service.today(tx)
    general = {each.rate.product: each for each in head.cards}
    _, rows = buyers(tx, actor, seller, BuyersSought(words), 0, None)
    found: list[tuple[BuyerPrices | None, Product, Card, Card | None]] = []
    for buyer in (None, *rows):
        own = general if buyer is None else {each.rate.product: each for each in buyer.cards}
        for product in head.products:
            mine = own.get(product.code)
            begun = mine if mine is not None and mine.rate.first_day <= today else None
            shown = begun or general.get(product.code)
            if shown is not None:
                found.append((buyer, product, shown, mine))
    return found


def _in_force(rates: Sequence[Rate], today: date) -> list[tuple[Rate, date | None]]:
    """The newest rate of each buyer and product that has begun, or else the first to come, with the day of the next."""
    by_cell: dict[tuple[str | None, str], list[Rate]] = {}
    for each in sorted(rates, key=lambda rate: rate.first_day):
        by_cell.setdefault((each.buyer, each.product), []).append(each)
    found = []
    for versions in by_cell.values():
        begun = [each for each in versions if each.first_day <= today]
        later = [each.first_day for each in versions if each.first_day > today]
        found.append((begun[-1], later[0] if later else None) if begun else (versions[0], None))
    return found


def versions(tx: Transaction, actor: Actor, seller: str, buyer: str | None, product: str) -> list[Card]:
    """Every version of a card, the newest first, for whoever runs the seller or an account above it."""
    accounts = accounts_service.known(tx)
    accounts_service.row_in_scope(accounts, actor, seller)
    cards = RateCards(tx, accounts)
    found = [each for each in cards.rates if (each.seller, each.buyer, each.product) == (seller, buyer, product)]
    return [
        Card(each, cards.currency(each), None) for each in sorted(found, key=lambda rate: rate.first_day, reverse=True)
    ]


@dataclass(frozen=True)
class WouldCharge:
    """What a buyer was charged for a product and would have been by another card: in the last month that is over, and
    over twelve."""

    buyer: str
    name: str
    currency: str
    was: Decimal
    would_be: Decimal
    was_over_year: Decimal
    would_be_over_year: Decimal


def would_charge(tx: Transaction, actor: Actor, rate: Rate) -> list[WouldCharge]:
    """What a card would have charged each of its buyers, for whoever runs the seller or an account above it. A general
    card leaves alone who has one of its own; amounts of a buyer priced in another currency until now are 0 before."""
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, rate.seller)
    product = pools_service.product(tx, rate.product)
    tree = accounts.tree
    if rate.buyer is not None and (rate.buyer not in tree or int(tree.parent[tree.row(rate.buyer)]) != row):
        raise invalid(f"{rate.buyer} is no buyer of {rate.seller}.", "buyer")
    whose = [rate.buyer] if rate.buyer else None
    first = month_before(accounts_service.today(tx).replace(day=1))
    currency = RateCards(tx, accounts).currency(rate)
    rate = replace(rate, currency=currency)
    found: dict[str, list[Decimal]] = {}
    for back in range(MONTHS):
        period = BillingPeriod(tx, first, month_of(f"{first:%Y-%m}")[1], [product], whose)
        if rate.seller in period.accounts.tree:
            for buyer, was, would_be in _amounts(period, rate, currency):
                sums = found.setdefault(buyer, [Decimal(0)] * 4)
                sums[2] += was
                sums[3] += would_be
                if back == 0:
                    sums[0], sums[1] = was, would_be
        first = month_before(first)
    ordered = sorted(found.items(), key=lambda each: -abs(each[1][3] - each[1][2]))
    return [
        WouldCharge(buyer, accounts.name(tree.row(buyer)) if buyer in tree else buyer, currency, *sums)
        for buyer, sums in ordered
    ]


def _amounts(period: BillingPeriod, rate: Rate, currency: str) -> list[tuple[str, Decimal, Decimal]]:
    tree = period.accounts.tree
    seller = tree.row(rate.seller)
    below = [int(each) for each in tree.branch(seller) if int(tree.parent[int(each)]) == seller and int(each) != seller]
    found = []
    for row in below:
        buyer = tree.codes[row]
        present = period.rate(buyer, rate.product)
        if rate.buyer not in (None, buyer) or (
            rate.buyer is None and present is not None and present.buyer is not None
        ):
            continue
        charged = period.charged(buyer, rate.product)
        was = charged[2].amount if charged and charged[1] == currency else Decimal(0)
        would_be = period.repriced(buyer, rate.product, rate)
        if was or would_be:
            found.append((buyer, was, would_be))
    return found


@dataclass(frozen=True)
class OwnPrice:
    """What a buyer pays for a product: by which card, what it was charged in the last month that is over, and what a
    unit more would have cost it then."""

    product: Product
    card: Card
    charged: Decimal
    quantity: Decimal


def own_prices(tx: Transaction, actor: Actor, buyer: str) -> tuple[str, list[OwnPrice]]:
    """The name of a buyer's seller and what it charges the buyer today, for whoever runs the buyer: nothing of what
    others pay, nor of what it costs the seller."""
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, buyer)
    if row == 0:
        return "", []
    cards, today = RateCards(tx, accounts), accounts_service.today(tx)
    first = month_before(today.replace(day=1))
    period = BillingPeriod(tx, first, month_of(f"{first:%Y-%m}")[1], buyers=[buyer])
    # What a seller of before charged is between that seller and the buyer.
    same_seller = buyer in period.accounts.tree and period.seller_of(buyer) == cards.seller_of(buyer)
    found = []
    for product in pools_service.products(tx):
        rate = cards.rate(buyer, product.code, today)
        if rate is None:
            continue
        line = period.line(buyer, product.code) if same_seller else None
        later = [
            each.first_day
            for each in cards.rates
            if (each.seller, each.product, each.buyer) == (rate.seller, product.code, rate.buyer)
            and each.first_day > today
        ]
        found.append(
            OwnPrice(
                product,
                Card(rate, cards.currency(rate), min(later, default=None)),
                line.charge.amount if line else Decimal(0),
                line.charge.quantity if line else Decimal(0),
            )
        )
    return accounts.name(int(accounts.tree.parent[row])), found
