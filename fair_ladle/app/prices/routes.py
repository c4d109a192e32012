"""Prices over HTTP: a seller's cards, what another one would have charged, and what a buyer pays."""

from __future__ import annotations

from collections.abc import Iterator
from decimal import Decimal
from typing import Annotated, Any

from fastapi import Query, Response
from pydantic import BaseModel

from fair_ladle.app.drafts.change_types import RateChange
from fair_ladle.app.drafts.evaluate import rate_of
from fair_ladle.app.plumbing.exports import Format, sheet
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router, reads_only
from fair_ladle.app.prices import usecases as prices
from fair_ladle.app.statements.rate_cards import what_more_costs
from fair_ladle.core.pricing import Rate
from fair_ladle.core.quantities import plain

routes = Router("/api/prices", "statements", sees="statements.see", changes="statements.see")


class PriceTier(BaseModel):
    """A price from a quantity on, in units."""

    from_quantity: str
    unit_price: str


class CardBody(BaseModel):
    """A card: what is charged for a product, and since when; ``next_day`` null where nothing follows yet. Of a markup
    the buyer is not told how much it is."""

    buyer: str | None
    product: str
    first_day: str
    next_day: str | None
    currency: str
    basis: str
    aggregate: str
    tier_mode: str
    tiers: list[PriceTier]
    included: str
    committed: str | None
    overage_price: str | None
    minimum: str | None
    fixed_fee: str | None
    fees: str
    is_markup: bool
    markup: str | None


class PricedProduct(BaseModel):
    """A product of the price list; ``drawn`` says whether its pool is at the seller or above it: else no buyer can draw
    it, and nobody is charged."""

    product: str
    name: str
    unit: str
    drawn: bool


class PriceBuyer(BaseModel):
    """A buyer of the price list."""

    buyer: str
    name: str
    kind: str
    cards: list[CardBody]


class PricesBody(BaseModel):
    """A seller's prices today: its products, how many buyers it has, whether it has any card at all, and the general
    cards in force, which whoever has none of its own follows."""

    seller: str
    seller_name: str
    currency: str
    products: list[PricedProduct]
    count: int
    charges: bool
    cards: list[CardBody]


class BuyersPage(BaseModel):
    """A part of a seller's buyers, and how many there are of those asked for."""

    total: int
    rows: list[PriceBuyer]


class WouldChargeBody(BaseModel):
    """What a buyer was charged and would have been: last month, and over twelve."""

    buyer: str
    name: str
    currency: str
    was: str
    would_be: str
    was_over_year: str
    would_be_over_year: str


class LookedAt(BaseModel):
    """A card to look at before it is drafted."""

    card: RateChange


class OwnPriceBody(BaseModel):
    """What the buyer pays for a product, what it was charged last month for which quantity, and what a month would cost
    more with ``more`` units more (null for a markup)."""

    product: str
    name: str
    unit: str
    card: CardBody
    charged: str
    quantity: str
    more_costs: str | None


class OwnPricesBody(BaseModel):
    """What a buyer pays its seller."""

    seller_name: str
    more: int
    prices: list[OwnPriceBody]


def _text(amount: Decimal | None) -> str | None:
    return None if amount is None else plain(amount)


def _card(card: prices.Card, tells_markup: bool) -> CardBody:
    rate = card.rate
    return CardBody(
        buyer=rate.buyer,
        product=rate.product,
        first_day=rate.first_day.isoformat(),
        next_day=None if card.next_day is None else card.next_day.isoformat(),
        currency=card.currency,
        basis=rate.basis,
        aggregate=rate.aggregate,
        tier_mode=rate.tier_mode,
        tiers=[
            PriceTier(from_quantity=plain(tier.from_quantity), unit_price=plain(tier.unit_price)) for tier in rate.tiers
        ],
        included=plain(rate.included),
        committed=_text(rate.committed),
        overage_price=_text(rate.overage_price),
        minimum=_text(rate.minimum),
        fixed_fee=_text(rate.fixed_fee),
        fees=rate.fees,
        is_markup=rate.markup is not None,
        markup=_text(rate.markup) if tells_markup else None,
    )


@routes.get("/of/{seller}", response_model=PricesBody)
def of_seller(db: Db, who: Who, seller: str) -> Any:
    """What a seller of one's branch charges today: products against buyers."""
    found = db.snapshot(prices.prices, who, seller)
    return PricesBody(
        seller=found.seller,
        seller_name=found.seller_name,
        currency=found.currency,
        products=[
            PricedProduct(product=each.code, name=each.name, unit=each.unit, drawn=each.id in found.drawn)
            for each in found.products
        ],
        count=found.count,
        charges=found.charges,
        cards=[_card(each, tells_markup=True) for each in found.cards],
    )


@routes.get("/buyers/{seller}", response_model=BuyersPage)
def buyers(
    db: Db,
    who: Who,
    seller: str,
    find: str = Query("", max_length=100),
    kind: str | None = Query(None, max_length=20),
    buyer: str | None = Query(None, max_length=64),
    offset: int = Query(0, ge=0, le=1_000_000),
    limit: int = Query(100, ge=1, le=200),
) -> Any:
    """A part of the buyers of a seller of one's branch, with the cards of their own: those with these words, of a kind,
    or one alone."""
    total, rows = db.snapshot(prices.buyers, who, seller, prices.BuyersSought(find, kind, buyer), offset, limit)
    return BuyersPage(
        total=total,
        rows=[
            PriceBuyer(
                buyer=each.buyer,
                name=each.name,
                kind=each.kind,
                cards=[_card(card, tells_markup=True) for card in each.cards],
            )
            for each in rows
        ],
    )


@routes.get("/buyers/{seller}/export", response_class=Response)
def export(db: Db, who: Who, form: Format, seller: str, find: str = Query("", max_length=100)) -> Response:
    """What a seller of one's branch charges whom today, as a file: of everybody, and of the buyers with these words."""
    columns = ["buyer", "buyer_name", "product", "product_name", "price", "currency", "since", "price_is", "next_on"]

    def rows() -> Iterator[list[Any]]:
        for buyer, product, shown, mine in db.snapshot(prices.in_force, who, seller, find):
            yield [
                buyer.buyer if buyer else "",
                buyer.name if buyer else "All buyers",
                product.code,
                product.name,
                _words(shown.rate),
                shown.currency,
                shown.rate.first_day,
                "its own" if buyer and shown is mine else "general",
                (mine.next_day if shown is mine else mine.rate.first_day) if mine else None,
            ]

    return sheet("prices", form, columns, rows())


def _words(rate: Rate) -> str:
    """A card in a few words: its prices by step, or what it is in place of them."""
    if rate.markup is not None:
        return f"cost + {plain(rate.markup)} %"
    steps = [(_price(tier.unit_price), tier.from_quantity) for tier in rate.tiers]
    return ", ".join(f"{price} from {plain(quantity)}" if quantity else price for price, quantity in steps)


def _price(amount: Decimal) -> str:
    """With two decimals at least, and all it has."""
    cents = amount.quantize(Decimal("0.01"))
    return f"{cents:f}" if cents == amount else plain(amount)


@routes.get("/of/{seller}/{product}", response_model=list[CardBody])
def of_product(db: Db, who: Who, seller: str, product: str, buyer: str | None = None) -> Any:
    """Every version of the general card of a product, or of a buyer's own, the newest first."""
    return [_card(each, tells_markup=True) for each in db.snapshot(prices.versions, who, seller, buyer, product)]


@routes.post("/preview", response_model=list[WouldChargeBody])
@reads_only
def look_at(db: Db, who: Who, body: LookedAt) -> Any:
    """What a card would have charged each of its buyers last month, and over twelve."""
    return [
        WouldChargeBody(
            buyer=each.buyer,
            name=each.name,
            currency=each.currency,
            was=f"{each.was:f}",
            would_be=f"{each.would_be:f}",
            was_over_year=f"{each.was_over_year:f}",
            would_be_over_year=f"{each.would_be_over_year:f}",
        )
        for each in db.snapshot(prices.would_charge, who, rate_of(body.card))
    ]


@routes.get("/own/{buyer}", response_model=OwnPricesBody)
def own(db: Db, who: Who, buyer: str, more: Annotated[int, Query(ge=-1_000_000, le=1_000_000)] = 20) -> Any:
    """What an account of one's branch pays its seller, and what so many units more would cost it a month."""
    seller_name, found = db.snapshot(prices.own_prices, who, buyer)
    return OwnPricesBody(
        seller_name=seller_name,
        more=more,
        prices=[
            OwnPriceBody(
                product=each.product.code,
                name=each.product.name,
                unit=each.product.unit,
                card=_card(each.card, tells_markup=False),
                charged=f"{each.charged:f}",
                quantity=f"{each.quantity:f}",
                more_costs=_text(what_more_costs(each.card.rate, each.quantity, Decimal(more), each.card.currency)),
            )
            for each in found
        ],
    )
