"""Prices over HTTP: a seller's cards, what another one would have charged, and what a buyer pays."""

from __future__ import annotations

from decimal import Decimal
from typing import Annotated, Any

from fastapi import Query
from pydantic import BaseModel

from fair_ladle.app.drafts.change_types import RateChange
from fair_ladle.app.drafts.evaluate import rate_of
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router, reads_only
from fair_ladle.app.prices import usecases as prices
from fair_ladle.app.statements.rate_cards import what_more_costs
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
    """A product of the price list."""

    product: str
    name: str
    unit: str


class PriceBuyer(BaseModel):
    """A buyer of the price list."""

    buyer: str
    name: str
    kind: str


class PricesBody(BaseModel):
    """A seller's prices today: its products, its buyers, and the cards in force; what has no card of its buyer follows
    the general one."""

    seller: str
    seller_name: str
    currency: str
    products: list[PricedProduct]
    buyers: list[PriceBuyer]
    cards: list[CardBody]


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
        products=[PricedProduct(product=each.code, name=each.name, unit=each.unit) for each in found.products],
        buyers=[PriceBuyer(buyer=code, name=name, kind=kind) for code, name, kind in found.buyers],
        cards=[_card(each, tells_markup=True) for each in found.cards],
    )


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
