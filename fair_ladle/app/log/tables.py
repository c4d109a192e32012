"""The log: entries, sealed one after the other into a chain."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, id_column, metadata

log_entries = sa.Table(
    "log_entries",
    metadata,
    id_column(),
    sa.Column("at", Instant, nullable=False),
    sa.Column("actor", sa.String(200), nullable=False),
    sa.Column("through", sa.BigInteger, comment="the account over which the actor acted; NULL = the installation"),
    sa.Column("account_id", sa.BigInteger, comment="the account concerned"),
    sa.Column("action", sa.String(64), nullable=False),
    sa.Column("subject", sa.String(255), nullable=False),
    sa.Column("before", sa.JSON),
    sa.Column("after", sa.JSON),
    sa.Column("via", sa.String(255), comment="the role, account and key the actor acted through, in words"),
    sa.Column("delegation_id", sa.BigInteger, comment="through which the actor acted"),
    sa.Column("key_id", sa.BigInteger, comment="the key a program acted with"),
    sa.Column("request_id", sa.String(32)),
    sa.Column("origin", sa.String(64), comment="the address it was asked from"),
    sa.Column("digest", sa.String(64), comment="of salt and words: what is sealed in place of whom and what it names"),
    sa.Column("salt", sa.String(32), comment="NULL = erased, or written before there were digests"),
    sa.Column("code", sa.String(64), comment="HMAC of its content; NULL = written before there was a key"),
    sa.Index("ix_log_entries_account_id", "account_id", "id"),
    sa.Index("ix_log_entries_actor", "actor", "id"),
    sa.Index("ix_log_entries_about", "account_id", "subject", "id"),
)

log_seals = sa.Table(
    "log_seals",
    metadata,
    sa.Column("number", sa.BigInteger, primary_key=True, autoincrement=False),
    sa.Column("entry_id", sa.BigInteger, nullable=False, unique=True),
    sa.Column("seal", sa.String(64), nullable=False, comment="HMAC of the seal before it and of the entry"),
)
