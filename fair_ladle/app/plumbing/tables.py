"""The schedule's jobs, and mails that are to go out."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, code_column, id_column, metadata

jobs = sa.Table(
    "jobs",
    metadata,
    code_column("name", primary_key=True),
    sa.Column("due_at", Instant, nullable=False),
    sa.Column("ran_at", Instant),
    sa.Column("trouble", sa.Text, comment="why its last run failed; NULL = it did not"),
)

outbox = sa.Table(
    "outbox",
    metadata,
    id_column(),
    sa.Column("to_address", sa.String(254), nullable=False),
    sa.Column("subject", sa.String(255), nullable=False),
    sa.Column("body", sa.Text, nullable=False),
    sa.Column("written_at", Instant, nullable=False),
    sa.Column("due_at", Instant, comment="when to send or try again; NULL = sent or given up"),
    sa.Column("sent_at", Instant),
    sa.Column("tries", sa.Integer, nullable=False, server_default="0"),
    sa.Column("trouble", sa.Text),
    sa.Index("ix_outbox_due_at", "due_at"),
)
