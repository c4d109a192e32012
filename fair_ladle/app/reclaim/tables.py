"""Policies of taking back, who was told, and what each run did to whom."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, id_column, metadata

reclaim_policies = sa.Table(
    "reclaim_policies",
    metadata,
    id_column(),
    sa.Column("touched", sa.BigInteger, nullable=False, server_default="0", comment="goes up with each lock"),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False, index=True),
    sa.Column("name", sa.String(200), nullable=False),
    sa.Column("criterion", sa.String(16), nullable=False, comment="unseen, never seen or not joined"),
    sa.Column("days", sa.Integer, nullable=False),
    sa.Column("products", sa.JSON, nullable=False, comment="codes; none = every product that people have seats of"),
    sa.Column("exempt", sa.JSON, nullable=False, comment="groups, as account's code/group's code"),
    sa.Column("notice_days", sa.Integer, nullable=False, comment="0 = without a notice"),
    sa.Column("act", sa.String(16), nullable=False, comment="release, suspend or report"),
    sa.Column("daily", sa.Boolean, nullable=False),
    sa.Column("looked_on", sa.Date, comment="the day it was last run by itself"),
    sa.Column("trouble", sa.Text, comment="why its last run by itself could not be"),
    sa.UniqueConstraint("account_id", "name"),
)

reclaim_notices = sa.Table(
    "reclaim_notices",
    metadata,
    sa.Column("policy_id", sa.ForeignKey("reclaim_policies.id"), primary_key=True),
    sa.Column("person_id", sa.ForeignKey("people.id"), primary_key=True),
    sa.Column("told_at", Instant, nullable=False),
    sa.Column("token_hash", sa.String(64), unique=True),
    sa.Column("needed_at", Instant, comment="when they said that they still need it"),
)

reclaim_runs = sa.Table(
    "reclaim_runs",
    metadata,
    id_column(),
    sa.Column("policy_id", sa.ForeignKey("reclaim_policies.id"), nullable=False, index=True),
    sa.Column("at", Instant, nullable=False),
    sa.Column("by", sa.String(200), nullable=False),
    sa.Column("undone_at", Instant),
    sa.Column("undone_by", sa.String(200)),
)

reclaim_deeds = sa.Table(
    "reclaim_deeds",
    metadata,
    id_column(),
    sa.Column("run_id", sa.ForeignKey("reclaim_runs.id"), nullable=False, index=True),
    sa.Column("person_id", sa.ForeignKey("people.id"), nullable=False),
    sa.Column("what", sa.String(16), nullable=False, comment="told, released, suspended or reported"),
    sa.Column(
        "units",
        sa.JSON,
        nullable=False,
        comment="[product, account, cost a month, currency] of what was taken back, or would be",
    ),
    sa.Column("why", sa.String(255), nullable=False),
)

idle_seats = sa.Table(
    "idle_seats",
    metadata,
    sa.Column("account_id", sa.BigInteger, primary_key=True, autoincrement=False),
    sa.Column("pool_id", sa.BigInteger, primary_key=True, autoincrement=False),
    sa.Column("units", sa.Integer, nullable=False),
)
"""Seats of people not seen for long, by the account and pool they count in, as they were counted last."""

idle_seats_counted = sa.Table(
    "idle_seats_counted",
    metadata,
    sa.Column("id", sa.Integer, primary_key=True, autoincrement=False),
    sa.Column("at", Instant, nullable=False),
)
