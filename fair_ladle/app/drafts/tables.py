"""Drafts, what they hold, and with whom they are shared."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, code_column, id_column, metadata

drafts = sa.Table(
    "drafts",
    metadata,
    id_column(),
    sa.Column("name", sa.String(200), nullable=False),
    sa.Column("state", sa.String(16), nullable=False, comment="open, scheduled, held, asked, applied or discarded"),
    sa.Column("owner_id", sa.ForeignKey("sign_ins.id"), nullable=False, index=True),
    sa.Column(
        "through_id", sa.ForeignKey("accounts.id"), nullable=False, comment="the branch its owner ran when it was made"
    ),
    sa.Column("revision", sa.Integer, nullable=False, server_default="0"),
    sa.Column("apply_on", sa.Date, comment="for a scheduled one"),
    sa.Column("reason", sa.Text, comment="why a scheduled one was held back, or one is asked for"),
    sa.Column("reverses_id", sa.BigInteger),
    sa.Column("created_at", Instant, nullable=False),
    sa.Column("changed_at", Instant, nullable=False),
    sa.Column("applied_at", Instant),
    sa.Column(
        "open_of",
        sa.String(42),
        sa.Computed("if(`state` = 'open',concat(`owner_id`,' ',`through_id`),NULL)", persisted=True),
        unique=True,
        comment="one open draft a person and branch",
    ),
    sa.Index("ix_drafts_state_apply_on", "state", "apply_on"),
)

draft_changes = sa.Table(
    "draft_changes",
    metadata,
    sa.Column("draft_id", sa.ForeignKey("drafts.id"), primary_key=True),
    sa.Column("kind", sa.String(16), primary_key=True),
    code_column("key", 300, primary_key=True),
    sa.Column("place", sa.Integer, nullable=False),
    sa.Column("body", sa.JSON, nullable=False),
)

draft_shares = sa.Table(
    "draft_shares",
    metadata,
    sa.Column("draft_id", sa.ForeignKey("drafts.id"), primary_key=True),
    sa.Column("sign_in_id", sa.ForeignKey("sign_ins.id"), primary_key=True),
    sa.Column("asked", sa.Boolean, nullable=False, server_default="0", comment="they were asked to apply it"),
)
