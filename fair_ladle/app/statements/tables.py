"""Rate cards: rates and their tiers."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.plumbing.database import Instant, code_column, id_column, metadata, money_column

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
    money_column("committed"),
    sa.Column("fees", sa.String(8), nullable=False, server_default="whole"),
    money_column("markup", comment="percent on what it cost the seller, in place of tiers"),
    sa.Index("ix_rates_seller", "seller_id", "product_id", "first_day"),
)


def _of_buyer() -> list[Any]:
    """What names a charge, discount or credit, and when it counts."""
    return [
        id_column(),
        sa.Column("seller_id", sa.ForeignKey("accounts.id"), nullable=False),
        sa.Column("buyer_id", sa.ForeignKey("accounts.id"), nullable=False, index=True),
        code_column("reference", 100, nullable=False),
        sa.Column("currency", sa.String(3), comment="NULL = the seller's; of a discount without a ceiling, every one"),
        sa.Column("first_day", sa.Date, nullable=False),
        sa.Column("last_day", sa.Date, comment="NULL = open"),
        sa.UniqueConstraint("seller_id", "buyer_id", "reference"),
    ]


charges = sa.Table(
    "charges",
    metadata,
    *_of_buyer(),
    sa.Column("description", sa.String(200)),
    code_column("tax_class"),
    money_column("quantity", nullable=False),
    money_column("unit_price", nullable=False),
    sa.Column("every", sa.String(8), nullable=False),
    sa.Column("fees", sa.String(8), nullable=False),
)

discounts = sa.Table(
    "discounts",
    metadata,
    *_of_buyer(),
    sa.Column("product_id", sa.ForeignKey("products.id"), comment="NULL = all usage lines and charges"),
    money_column("percent", nullable=False),
    money_column("ceiling"),
)

credits = sa.Table("credits", metadata, *_of_buyer(), money_column("amount", nullable=False))

tax_rates = sa.Table(
    "tax_rates",
    metadata,
    id_column(),
    sa.Column("seller_id", sa.ForeignKey("accounts.id"), nullable=False),
    code_column("tax_class", nullable=False),
    sa.Column("first_day", sa.Date, nullable=False),
    money_column("percent", nullable=False),
    sa.UniqueConstraint("seller_id", "tax_class", "first_day"),
)

exchange_rates = sa.Table(
    "exchange_rates",
    metadata,
    id_column(),
    sa.Column("day", sa.Date, nullable=False),
    sa.Column("of", sa.String(3), nullable=False),
    sa.Column("into", sa.String(3), nullable=False, comment="1 of it is rate of this"),
    money_column("rate", nullable=False),
    sa.UniqueConstraint("day", "of", "into"),
)

statement_numbers = sa.Table(
    "statement_numbers",
    metadata,
    sa.Column("seller_id", sa.ForeignKey("accounts.id"), primary_key=True),
    sa.Column("closed_until", sa.Date, comment="first day of the newest month that is closed"),
    sa.Column("year", sa.Integer, nullable=False),
    sa.Column("number", sa.Integer, nullable=False, comment="the last one given in that year"),
)
"""How far each seller has closed and numbered: whoever closes locks its row."""

closing_runs = sa.Table(
    "closing_runs",
    metadata,
    sa.Column("seller_id", sa.ForeignKey("accounts.id"), primary_key=True),
    sa.Column("first_day", sa.Date, primary_key=True, comment="of the month"),
    sa.Column("seen", sa.String(64), nullable=False, comment="what was looked at when it was asked for"),
    sa.Column("reason", sa.String(2000), nullable=False),
    sa.Column("sign_in_id", sa.BigInteger, nullable=False, comment="whose"),
    code_column("through", nullable=False, comment="in which branch"),
    sa.Column("state", sa.String(8), nullable=False, comment="running, stopped, refused or done"),
    sa.Column("done", sa.Integer, nullable=False),
    sa.Column("total", sa.Integer, nullable=False),
    sa.Column("says", sa.String(2000), comment="why it was refused"),
    sa.Column("statements", sa.Integer, nullable=False),
    sa.Column("first_number", sa.String(20)),
    sa.Column("last_number", sa.String(20)),
    sa.Column("taken_until", Instant, comment="until when whoever works at it has it"),
    sa.Index("ix_closing_runs_state", "state"),
)

closed_periods = sa.Table(
    "closed_periods",
    metadata,
    sa.Column("seller_id", sa.ForeignKey("accounts.id"), primary_key=True),
    sa.Column("first_day", sa.Date, primary_key=True, comment="of the month"),
    sa.Column("closed_at", Instant, nullable=False),
    sa.Column("closed_by", sa.String(254), nullable=False),
    sa.Column("reason", sa.String(2000), nullable=False, comment="why what could be objected to was let pass"),
    sa.Column("kept", mysql.LONGBLOB, nullable=False, comment="rates and terms it was priced with, as packed JSON"),
    sa.Column("made_of", mysql.LONGTEXT, nullable=False, comment="of the facts of each product, as JSON"),
    sa.Column("hash", sa.String(64), nullable=False),
)

closed_statements = sa.Table(
    "closed_statements",
    metadata,
    id_column(),
    sa.Column("seller_id", sa.ForeignKey("accounts.id"), nullable=False),
    sa.Column("buyer_id", sa.ForeignKey("accounts.id"), nullable=False),
    sa.Column("first_day", sa.Date, nullable=False, comment="of the month"),
    sa.Column("currency", sa.String(3), nullable=False),
    sa.Column("year", sa.Integer, nullable=False),
    sa.Column("number", sa.Integer, nullable=False),
    sa.Column("tax", sa.String(16), nullable=False, comment="what the buyer was taxed"),
    money_column("net", nullable=False),
    money_column("total", nullable=False),
    sa.Column("due_day", sa.Date, comment="NULL = no term of payment"),
    sa.Column("document", mysql.LONGBLOB, nullable=False, comment="the whole of it, as packed JSON"),
    sa.Column("hash", sa.String(64), nullable=False),
    sa.UniqueConstraint("seller_id", "year", "number"),
    sa.Index("uq_closed_statements_month", "seller_id", "first_day", "buyer_id", "currency", unique=True),
    sa.Index("ix_closed_statements_buyer_id", "buyer_id", "first_day"),
)

closed_lines = sa.Table(
    "closed_lines",
    metadata,
    sa.Column("statement_id", sa.ForeignKey("closed_statements.id"), primary_key=True),
    sa.Column("place", sa.Integer, primary_key=True, autoincrement=False),
    sa.Column("kind", sa.String(16), nullable=False),
    code_column("reference", 150, nullable=False),
    money_column("amount", nullable=False),
    sa.Column("taxed", sa.String(1000), nullable=False, comment="how much of it at which percentage, as JSON"),
)
"""What each line of a closed statement came to: what adjustments and ceilings are reckoned by."""

kept_months = sa.Table(
    "kept_months",
    metadata,
    sa.Column("product_id", sa.ForeignKey("products.id"), primary_key=True),
    sa.Column("first_day", sa.Date, primary_key=True, comment="of the month"),
    sa.Column("made_of", sa.String(120), nullable=False, comment="while it is this, what is kept holds"),
    sa.Column("days", sa.Integer, nullable=False, comment="read of the month"),
    sa.Column("late", mysql.MEDIUMTEXT, comment="the late facts it has, as JSON; NULL = it cannot be corrected"),
)
"""The months of which is kept what every buyer is charged for a product."""

kept_readings = sa.Table(
    "kept_readings",
    metadata,
    sa.Column("product_id", sa.ForeignKey("products.id"), primary_key=True),
    sa.Column("first_day", sa.Date, primary_key=True, comment="of the month"),
    sa.Column("block", sa.Integer, primary_key=True, autoincrement=False, comment="of accounts, by number"),
    sa.Column("figures", mysql.MEDIUMBLOB, nullable=False, comment="accounts × days, packed"),
)
"""What a month that is kept was read of every account, by which it is corrected."""

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

kept_pools = sa.Table(
    "kept_pools",
    metadata,
    sa.Column("first_day", sa.Date, primary_key=True),
    sa.Column("product_id", sa.ForeignKey("products.id"), primary_key=True),
    sa.Column("owner_id", sa.ForeignKey("accounts.id"), primary_key=True),
    sa.Column("currency", sa.String(3), primary_key=True, comment="it was bought in"),
    sa.Column("cost", sa.String(40), nullable=False, comment="of all its lots"),
    sa.Column("own", sa.String(40), nullable=False, comment="what of it the owner used itself"),
    sa.Column("idle", sa.String(40), nullable=False, comment="what of it nobody held"),
    sa.Column("weights", mysql.MEDIUMBLOB, comment="by which its cost is shared, as packed JSON"),
    sa.Index("ix_kept_pools_product_id", "product_id"),
    sa.Index("ix_kept_pools_owner_id", "owner_id", "first_day"),
)
"""What the pools of a product that is kept for a month cost."""

rate_tiers = sa.Table(
    "rate_tiers",
    metadata,
    sa.Column("rate_id", sa.ForeignKey("rates.id"), primary_key=True),
    sa.Column("from_quantity", sa.Numeric(30, 10), primary_key=True),
    money_column("unit_price", nullable=False),
)
