"""The schedule's jobs, mails that are to go out, requests that happened, generations of what is cached, and where
bringing the database up to date stands."""

from __future__ import annotations

import sqlalchemy as sa
from sqlalchemy.dialects.mysql import MEDIUMBLOB, MEDIUMTEXT

from fair_ladle.app.plumbing.database import Instant, code_column, id_column, metadata

jobs = sa.Table(
    "jobs",
    metadata,
    code_column("name", primary_key=True),
    sa.Column("due_at", Instant, nullable=False),
    sa.Column("ran_at", Instant),
    sa.Column("trouble", sa.Text, comment="why its last run failed; NULL = it did not"),
    sa.Column("holder", sa.String(16), comment="the server that does it now"),
    sa.Column("leased_until", Instant, comment="until when it may without a heartbeat; NULL = nobody does it"),
)

job_items = sa.Table(
    "job_items",
    metadata,
    code_column("job", primary_key=True),
    code_column("item", 128, primary_key=True),
    sa.Column("reason", sa.Text, nullable=False, comment="why it failed"),
    sa.Column("tries", sa.Integer, nullable=False),
    sa.Column("failed_at", Instant, nullable=False),
    sa.Column("again_at", Instant, nullable=False, comment="when it is tried again"),
)
"""What of a job's work is set aside: it failed, and the rest went on."""

outbox = sa.Table(
    "outbox",
    metadata,
    id_column(),
    sa.Column("to_address", sa.String(254), nullable=False),
    sa.Column("subject", sa.String(255), nullable=False),
    sa.Column("body", sa.Text, nullable=False),
    sa.Column("encloses", sa.String(100), comment="what is enclosed, made when it is sent; NULL = nothing"),
    sa.Column("written_at", Instant, nullable=False),
    sa.Column("due_at", Instant, comment="when to send or try again; NULL = taken, sent or given up"),
    sa.Column("taken_at", Instant, comment="since when it is being sent; NULL = it is not"),
    sa.Column("sent_at", Instant),
    sa.Column("tries", sa.Integer, nullable=False, server_default="0"),
    sa.Column("trouble", sa.Text),
    sa.Column("bulk", sa.Boolean, nullable=False, server_default="0", comment="one of many: it holds back no other"),
    sa.Index("ix_outbox_due_at", "bulk", "due_at"),
    sa.Index("ix_outbox_taken_at", "taken_at"),
)

request_keys = sa.Table(
    "request_keys",
    metadata,
    code_column("whose", 80, primary_key=True, comment="s and the sign-in's number, or o and the origin"),
    code_column("key", 128, primary_key=True),
    sa.Column("fingerprint", sa.String(64), nullable=False, comment="SHA-256 of what was asked for"),
    sa.Column("attempt", sa.String(16), nullable=False, comment="which of its tries was kept"),
    sa.Column("answer", MEDIUMBLOB, comment="packed JSON; NULL = not kept"),
    sa.Column("at", Instant, nullable=False, index=True),
)

generations = sa.Table(
    "generations",
    metadata,
    code_column("name", primary_key=True, comment="what it is about: structure, allocations, rates, past"),
    sa.Column("number", sa.BigInteger, nullable=False, comment="another one whenever that changes; never one again"),
)

late_facts = sa.Table(
    "late_facts",
    metadata,
    sa.Column("product_id", sa.BigInteger, primary_key=True, autoincrement=False),
    sa.Column("first_day", sa.Date, primary_key=True, comment="the first day that they change"),
    sa.Column("number", sa.BigInteger, nullable=False, comment="another one each time; never one again"),
    sa.Column("before", sa.BigInteger, nullable=False, server_default="0", comment="the number before, 0 = none"),
)
"""From which days on something was changed later of a product's use, terms or supply on days that were over."""

late_accounts = sa.Table(
    "late_accounts",
    metadata,
    sa.Column("product_id", sa.BigInteger, primary_key=True, autoincrement=False),
    sa.Column("number", sa.BigInteger, primary_key=True, autoincrement=False, comment="of late_facts"),
    sa.Column("before", sa.BigInteger, nullable=False, comment="the number there was before this change"),
    sa.Column("accounts", MEDIUMTEXT, nullable=False, comment="whose facts changed, as JSON"),
    sa.Column("of_use", sa.Boolean, nullable=False, comment="what is in use, and nothing else of them"),
    sa.Column("written_at", Instant, nullable=False),
    sa.Index("ix_late_accounts_written_at", "written_at"),
)
"""Whose facts of days that were over a change was of, where it was of few; each says which change was before it."""

demo_clock = sa.Table(
    "demo_clock",
    metadata,
    sa.Column("demo_at", Instant, nullable=False),
    sa.Column("real_at", Instant, nullable=False),
)

schema_change = sa.Table(
    "schema_change",
    metadata,
    sa.Column("id", sa.SmallInteger, primary_key=True, autoincrement=False, comment="1: there is one row"),
    sa.Column("node", sa.String(255), comment="the database server at which it is under way; NULL = it is not"),
    sa.Column("until", Instant, nullable=False, comment="then another node may take it over"),
    sa.Column("done", MEDIUMTEXT, nullable=False, comment="statements done of the migration under way, by hash"),
)
"""Where bringing the database up to date stands: made by that, before the first migration."""
