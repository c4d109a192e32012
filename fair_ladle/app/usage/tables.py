"""Assignments (half-open intervals of instants), storage samples (bytes at an instant), and what follows from these."""

from __future__ import annotations

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.plumbing.database import Instant, code_column, id_column, metadata

assignments = sa.Table(
    "assignments",
    metadata,
    id_column(),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False),
    sa.Column("product_id", sa.ForeignKey("products.id"), nullable=False),
    code_column("subject", 128, nullable=False),
    sa.Column("begins", Instant, nullable=False),
    sa.Column("ends", Instant),
    sa.UniqueConstraint("product_id", "account_id", "subject", "begins"),
    sa.Index("ix_assignments_subject", "product_id", "subject"),
    sa.Index("ix_assignments_product_id_account_id_ends", "product_id", "account_id", "ends"),
    sa.Index("ix_assignments_product_id_begins", "product_id", "begins"),
    sa.Index("ix_assignments_product_id_ends", "product_id", "ends"),
)

storage_samples = sa.Table(
    "storage_samples",
    metadata,
    sa.Column("product_id", sa.ForeignKey("products.id"), primary_key=True),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), primary_key=True),
    code_column("category", 200, primary_key=True),
    sa.Column("at", Instant, primary_key=True),
    sa.Column("bytes", sa.BigInteger, nullable=False),
    sa.Index("ix_storage_samples_product_id_at", "product_id", "at"),
)

sample_sets = sa.Table(
    "sample_sets",
    metadata,
    sa.Column("account_id", sa.ForeignKey("accounts.id"), primary_key=True),
    sa.Column("digest", sa.BINARY(16), primary_key=True),
    sa.Column("categories", mysql.MEDIUMBLOB, nullable=False, comment="one a line, compressed"),
)

sample_rounds = sa.Table(
    "sample_rounds",
    metadata,
    sa.Column("product_id", sa.ForeignKey("products.id"), primary_key=True),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), primary_key=True),
    sa.Column("at", Instant, primary_key=True),
    sa.Column("digest", sa.BINARY(16), primary_key=True, comment="of the categories that were measured"),
    sa.Index("ix_sample_rounds_account_id", "account_id", "digest"),
)
"""When the categories of an account were measured, and some of them were as before: of these there is no sample."""

stored = sa.Table(
    "stored",
    metadata,
    sa.Column("product_id", sa.ForeignKey("products.id"), primary_key=True),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), primary_key=True),
    sa.Column("kind", sa.String(8), primary_key=True, comment="person, folder or category"),
    code_column("name", 200, primary_key=True, comment="username, folder code or category"),
    sa.Column("bytes", sa.BigInteger, nullable=False),
    sa.Column("week_ago", sa.BigInteger, nullable=False),
    sa.Column("month_ago", sa.BigInteger, nullable=False),
    sa.Column("quarter_ago", sa.BigInteger, nullable=False),
    sa.Column("at", Instant, nullable=False, comment="of the newest sample that said something new"),
    sa.Column("used_at", Instant, comment="last use, where a storage system says so"),
    sa.Column("past_limit_since", Instant, comment="since when it is over its limit, as far as it was looked at"),
    sa.Column("delete_at", Instant, index=True, comment="when what somebody left behind is gone; NULL = stays"),
    sa.Column(
        "told",
        sa.SmallInteger,
        nullable=False,
        server_default="0",
        comment="1 = that they are near their limit, 2 = over it",
    ),
    sa.Column(
        "person_id", sa.BigInteger, comment="whose of the account it is; NULL = nobody's: left behind, or shared"
    ),
    sa.Index("ix_stored_account_id_product_id", "account_id", "product_id"),
    sa.Index("ix_stored_size", "product_id", "kind", "bytes", "person_id", "week_ago", "month_ago", "quarter_ago"),
    sa.Index("ix_stored_person_id", "person_id", "product_id", "kind"),
)
"""What each person, shared folder and other category stores now, and did a while ago: the samples added up, kept with
every change of them."""

stored_days = sa.Table(
    "stored_days",
    metadata,
    sa.Column("product_id", sa.ForeignKey("products.id"), primary_key=True),
    sa.Column("day", sa.Date, nullable=False, comment="from which a week, month and quarter are counted back"),
    sa.Column("ahead_at", Instant, comment="the first sample of an instant still to come"),
)
