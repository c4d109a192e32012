"""Products, pools and lots. Quantities are in grains."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, code_column, id_column, metadata, money_column

products = sa.Table(
    "products",
    metadata,
    id_column(),
    code_column("code", nullable=False, unique=True),
    sa.Column("name", sa.String(200), nullable=False),
    sa.Column("vendor", sa.String(200)),
    sa.Column("measure", sa.String(16), nullable=False),
    sa.Column("unit", sa.String(32), nullable=False),
    code_column("family"),
    code_column("successor"),
    code_column("tax_class"),
    sa.Column("idle", sa.String(8), nullable=False, server_default="retained", comment="retained or spread"),
)

product_bases = sa.Table(
    "product_bases",
    metadata,
    sa.Column("product_id", sa.ForeignKey("products.id", ondelete="CASCADE"), primary_key=True),
    sa.Column("base_id", sa.ForeignKey("products.id"), primary_key=True, comment="one of these is needed"),
    sa.Column("place", sa.Integer, nullable=False),
)

product_components = sa.Table(
    "product_components",
    metadata,
    sa.Column("product_id", sa.ForeignKey("products.id", ondelete="CASCADE"), primary_key=True),
    code_column("component", primary_key=True),
    sa.Column("mandatory", sa.Boolean, nullable=False, comment="always on, wherever the product is"),
    sa.Column("place", sa.Integer, nullable=False),
)

pools = sa.Table(
    "pools",
    metadata,
    id_column(),
    sa.Column("owner_id", sa.ForeignKey("accounts.id"), nullable=False),
    sa.Column("product_id", sa.ForeignKey("products.id"), nullable=False),
    sa.Column("fresh_until", Instant, comment="counters hold until then; NULL = to be rebuilt"),
    sa.Column(
        "backed", sa.Boolean, nullable=False, server_default=sa.false(), comment="every promise is physically there"
    ),
    sa.Column("touched", sa.BigInteger, nullable=False, server_default="0", comment="goes up with each lock"),
    sa.UniqueConstraint("product_id", "owner_id"),
)

lots = sa.Table(
    "lots",
    metadata,
    id_column(),
    code_column("reference", 100, nullable=False),
    sa.Column("owner_id", sa.ForeignKey("accounts.id"), nullable=False),
    sa.Column("product_id", sa.ForeignKey("products.id"), nullable=False),
    sa.Column("quantity", sa.BigInteger, nullable=False),
    sa.Column("first_day", sa.Date, nullable=False),
    sa.Column("last_day", sa.Date),
    money_column("unit_cost", nullable=False),
    sa.Column("currency", sa.String(3), nullable=False),
    sa.Column("true_up", sa.BigInteger, nullable=False),
    sa.Column("overcommit", sa.Integer),
    sa.UniqueConstraint("product_id", "owner_id", "reference", "first_day"),
)
