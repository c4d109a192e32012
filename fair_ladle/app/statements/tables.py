"""Rate cards: rates and their tiers."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import id_column, metadata, money_column

rates = sa.Table(
    "rates",
    metadata,
    id_column(),
    sa.Column("seller_id", sa.ForeignKey("accounts.id"), nullable=False),
    sa.Column("buyer_id", sa.ForeignKey("accounts.id"), comment="NULL = all buyers"),
    sa.Column("product_id", sa.ForeignKey("products.id"), nullable=False),
    sa.Column("first_day", sa.Date, nullable=False),
    sa.Column("basis", sa.String(16), nullable=False),
    sa.Column("aggregate", sa.String(16), nullable=False),
    sa.Column("tier_mode", sa.String(16), nullable=False),
    money_column("included"),
    money_column("overage_price"),
    money_column("minimum"),
    money_column("fixed_fee"),
    sa.Column("currency", sa.String(3)),
    sa.Index("ix_rates_seller", "seller_id", "product_id", "first_day"),
)

kept_months = sa.Table(
    "kept_months",
    metadata,
    sa.Column("product_id", sa.ForeignKey("products.id"), primary_key=True),
    sa.Column("first_day", sa.Date, primary_key=True, comment="of the month"),
    sa.Column("made_of", sa.String(120), nullable=False, comment="while it is this, what is kept holds"),
    sa.Column("days", sa.Integer, nullable=False, comment="read of the month"),
)
"""The months of which is kept what every buyer is charged for a product."""

kept_charges = sa.Table(
    "kept_charges",
    metadata,
    sa.Column("first_day", sa.Date, primary_key=True),
    sa.Column("product_id", sa.ForeignKey("products.id"), primary_key=True),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), primary_key=True, comment="the buyer"),
    sa.Column("amount", sa.String(40), comment="as it is owed, to its currency's decimals; NULL = no rate"),
    sa.Column("currency", sa.String(3)),
    sa.Column("cost", sa.String(40), comment="what it cost the seller; NULL = not known"),
    sa.Index("ix_kept_charges_account_id", "account_id", "first_day"),
)

rate_tiers = sa.Table(
    "rate_tiers",
    metadata,
    sa.Column("rate_id", sa.ForeignKey("rates.id"), primary_key=True),
    sa.Column("from_quantity", sa.Numeric(30, 10), primary_key=True),
    money_column("unit_price", nullable=False),
)
