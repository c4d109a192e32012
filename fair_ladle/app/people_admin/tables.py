"""Views of the people list that somebody keeps, and e-mail domains whose people join by themselves."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, code_column, id_column, metadata

saved_views = sa.Table(
    "saved_views",
    metadata,
    id_column(),
    sa.Column("sign_in_id", sa.ForeignKey("sign_ins.id"), nullable=False),
    sa.Column("name", sa.String(100), nullable=False),
    sa.Column("query", sa.String(2000), nullable=False, comment="what stands in the address after ?"),
    sa.UniqueConstraint("sign_in_id", "name"),
)

email_domains = sa.Table(
    "email_domains",
    metadata,
    code_column("domain", 253, primary_key=True),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), primary_key=True, index=True),
    sa.Column("joining", sa.String(16), nullable=False, comment="at once, or approved"),
    sa.Column("approved_at", Instant, comment="when the operator agreed that it is theirs; NULL = waits"),
    sa.Column(
        "approved_domain",
        sa.String(253, collation="utf8mb4_nopad_bin"),
        sa.Computed("if(`approved_at` is null,NULL,`domain`)", persisted=True),
        unique=True,
        comment="one account has it",
    ),
)

join_requests = sa.Table(
    "join_requests",
    metadata,
    id_column(),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False, index=True),
    sa.Column("email", sa.String(254), nullable=False, index=True),
    sa.Column("name", sa.String(200), nullable=False),
    sa.Column("token_hash", sa.String(64), nullable=False, unique=True),
    sa.Column("asked_at", Instant, nullable=False),
    sa.Column("proven_at", Instant, comment="when the link in the mail was followed: the address is theirs"),
    sa.Column("decided_at", Instant),
    sa.Column("decided_by", sa.String(200)),
    sa.Column("username", sa.String(128), comment="who they became; NULL = not yet, or refused"),
)
