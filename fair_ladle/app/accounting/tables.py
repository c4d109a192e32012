"""What a seller's own books call things."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import code_column, metadata

journal_accounts = sa.Table(
    "journal_accounts",
    metadata,
    sa.Column("seller_id", sa.ForeignKey("accounts.id"), primary_key=True),
    sa.Column("role", sa.String(16), primary_key=True),
    code_column("of", 64, primary_key=True, comment="a product, or a percentage of tax; empty = all others"),
    sa.Column("account", sa.String(64), nullable=False),
)
