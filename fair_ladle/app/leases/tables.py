"""Sessions and their leases."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, code_column, id_column, metadata

leases = sa.Table(
    "leases",
    metadata,
    id_column(),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False),
    sa.Column("product_id", sa.ForeignKey("products.id"), nullable=False),
    sa.Column("person_id", sa.ForeignKey("people.id"), nullable=False),
    code_column("username", 128, nullable=False),
    code_column("machine", 128, nullable=False),
    sa.Column("token_hash", sa.String(64), nullable=False, unique=True),
    sa.Column("began_at", Instant, nullable=False),
    sa.Column("until", Instant, nullable=False, comment="when it is lost unless a heartbeat comes"),
    sa.Column("offline_until", Instant, comment="until when it needs no heartbeat"),
    sa.Column("ends_at", Instant, comment="it was told to save and end by then"),
    sa.Column("ended_at", Instant),
    sa.Column("why", sa.String(200), comment="why it is told to end, or ended"),
    sa.Index("ix_leases_person", "product_id", "person_id", "ended_at"),
    sa.Index("ix_leases_ended_at_until", "ended_at", "until"),
)
