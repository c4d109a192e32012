"""Accounts and their dated places in the tree."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import code_column, id_column, metadata

accounts = sa.Table(
    "accounts",
    metadata,
    id_column(),
    code_column("code", nullable=False, unique=True),
    sa.Column("kind", sa.String(16), nullable=False),
    sa.Column("name", sa.String(200), nullable=False),
    sa.Column("currency", sa.String(3)),
    sa.Column("time_zone", sa.String(64)),
    sa.Column("admin_email", sa.String(254)),
    sa.Column("billing_email", sa.String(254)),
    sa.Column("tax", sa.String(16), nullable=False, server_default="normal"),
    sa.Column("exemption_reason", sa.String(200)),
    sa.Column("street", sa.String(200)),
    sa.Column("postcode", sa.String(32)),
    sa.Column("city", sa.String(100)),
    sa.Column("country", sa.String(2)),
    sa.Column("tax_number", sa.String(32)),
    sa.Column("payment_days", sa.Integer),
    sa.Column("iban", sa.String(34)),
    sa.Column("buyer_reference", sa.String(100), comment="the buyer's own order number"),
    sa.Column("cost_centre", sa.String(64)),
    sa.Column("made_on", sa.Date, comment="the day it was made here; NULL = by an intake, or before this was kept"),
    sa.Column(
        "path",
        sa.String(3000, collation="ascii_bin"),
        nullable=False,
        server_default="",
        index=True,
        comment="its number and those above it from the top, each as 6 digits of 36: a branch is a range",
    ),
)

account_statuses = sa.Table(
    "account_statuses",
    metadata,
    id_column(),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False, index=True),
    sa.Column("status", sa.String(16), nullable=False, comment="suspended or closed; no row = active"),
    sa.Column("charged", sa.Boolean, nullable=False, comment="whether a suspended account goes on being charged"),
    sa.Column("first_day", sa.Date, nullable=False),
    sa.Column("last_day", sa.Date, comment="NULL = open"),
)

account_unallocated = sa.Table(
    "account_unallocated",
    metadata,
    id_column(),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False, index=True),
    sa.Column("value", sa.String(8), nullable=False, comment="free or none; no row = free"),
    sa.Column("first_day", sa.Date, comment="NULL = since ever"),
    sa.Column("last_day", sa.Date, comment="NULL = open"),
)
"""What an account without an allocation in a pool it does not own may hold there: what is free above, or nothing."""

account_parents = sa.Table(
    "account_parents",
    metadata,
    id_column(),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False, index=True),
    sa.Column("parent_id", sa.ForeignKey("accounts.id"), index=True),
    sa.Column("first_day", sa.Date, index=True, comment="NULL = since ever"),
    sa.Column("last_day", sa.Date, comment="NULL = open"),
)

account_settings = sa.Table(
    "account_settings",
    metadata,
    sa.Column("account_id", sa.ForeignKey("accounts.id"), primary_key=True),
    sa.Column("name", sa.String(32), primary_key=True),
    sa.Column("value", sa.Integer, nullable=False),
)
"""How long things last where an account has said so; no row = as the account above."""
