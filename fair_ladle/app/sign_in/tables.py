"""Who can sign in, what they may run, their sessions, and tries that failed."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, code_column, id_column, metadata

sign_ins = sa.Table(
    "sign_ins",
    metadata,
    id_column(),
    code_column("email", 254, nullable=False, unique=True, comment="in small letters"),
    sa.Column("name", sa.String(200), nullable=False),
    sa.Column("password_hash", sa.String(255), nullable=False, comment="empty = none was set yet"),
)

roles = sa.Table(
    "roles",
    metadata,
    id_column(),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False, comment="whose role it is"),
    sa.Column("name", sa.String(100), nullable=False),
    sa.UniqueConstraint("account_id", "name"),
)
"""Roles that accounts have composed; the ready-made ones stand in the code."""

role_permissions = sa.Table(
    "role_permissions",
    metadata,
    sa.Column("role_id", sa.ForeignKey("roles.id"), primary_key=True),
    sa.Column("permission", sa.String(32), primary_key=True),
)

delegations = sa.Table(
    "delegations",
    metadata,
    id_column(),
    sa.Column("sign_in_id", sa.ForeignKey("sign_ins.id"), nullable=False, index=True),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False, index=True),
    sa.Column("role", sa.String(32), nullable=False),
    sa.Column("role_id", sa.ForeignKey("roles.id"), comment="a role of one's own; NULL = a ready-made one"),
    sa.Column("passes_on", sa.Boolean, nullable=False, server_default="1", comment="may give delegations"),
    sa.Column("name", sa.String(200), comment="what who gave it calls them; NULL = as their sign-in"),
    sa.Column("first_day", sa.Date),
    sa.Column("last_day", sa.Date, comment="NULL = open"),
    sa.Column("ended_at", Instant, comment="since when it is ended for good"),
    sa.Column("ended_by", sa.String(200)),
    sa.Column("people_of", sa.String(130), comment="a group: its people alone, no account; NULL = the whole branch"),
    sa.Column("given_through", sa.BigInteger, comment="the delegation through which it was given"),
    sa.Column("limits", sa.JSON(none_as_null=True), comment="how far it goes; NULL = as far as its role"),
)

delegation_history = sa.Table(
    "delegation_history",
    metadata,
    id_column(),
    sa.Column("delegation_id", sa.ForeignKey("delegations.id"), nullable=False),
    sa.Column("since", Instant, nullable=False),
    sa.Column("role_name", sa.String(100), nullable=False),
    sa.Column("permissions", sa.String(1000), nullable=False),
    sa.Column("first_day", sa.Date),
    sa.Column("last_day", sa.Date),
    sa.Column("passes_on", sa.Boolean, nullable=False),
    sa.Index("ix_delegation_history_delegation_id", "delegation_id", "since"),
)
"""What each delegation was from an instant on, its role with the permissions it had then."""

api_keys = sa.Table(
    "api_keys",
    metadata,
    id_column(),
    sa.Column("delegation_id", sa.ForeignKey("delegations.id"), nullable=False, index=True),
    sa.Column("name", sa.String(100), nullable=False),
    sa.Column("key_hash", sa.String(64), nullable=False, unique=True),
    sa.Column("ending", sa.String(4), nullable=False, comment="its last characters, to tell it by"),
    sa.Column("permissions", sa.JSON(none_as_null=True), comment="what of the role it has; NULL = all of it"),
    sa.Column("limits", sa.JSON(none_as_null=True), comment="how far it goes; NULL = as far as its delegation"),
    sa.Column("made_at", Instant, nullable=False),
    sa.Column("expires_at", Instant, nullable=False),
    sa.Column("ended_at", Instant),
    sa.Column("last_used", Instant),
    sa.Column("last_origin", sa.String(64)),
    sa.Column("minute", sa.BigInteger, nullable=False, server_default="0", comment="of the newest request"),
    sa.Column("asked", sa.Integer, nullable=False, server_default="0", comment="how often in that minute"),
)
"""With which programs act through a delegation; the key itself is shown once."""

second_factor_rules = sa.Table(
    "second_factor_rules",
    metadata,
    sa.Column("account_id", sa.ForeignKey("accounts.id"), primary_key=True),
    sa.Column("role", sa.String(32), primary_key=True, comment="its key; empty = every role"),
)
"""Branches, and roles in them, that nobody runs without a second factor."""

sessions = sa.Table(
    "sessions",
    metadata,
    sa.Column("token_hash", sa.String(64), primary_key=True),
    sa.Column("sign_in_id", sa.ForeignKey("sign_ins.id"), nullable=False, index=True),
    sa.Column("csrf_token", sa.String(64), nullable=False),
    sa.Column("began", Instant, nullable=False),
    sa.Column("last_used", Instant, nullable=False),
    sa.Column("origin", sa.String(64), comment="the address it began from"),
    sa.Column("agent", sa.String(200), comment="what the browser says it is"),
)

second_factors = sa.Table(
    "second_factors",
    metadata,
    sa.Column("sign_in_id", sa.ForeignKey("sign_ins.id"), primary_key=True),
    sa.Column("secret", sa.String(255), nullable=False, comment="TOTP, base 32, sealed"),
    sa.Column("confirmed_at", Instant, comment="NULL = not in force yet"),
    sa.Column("last_step", sa.BigInteger, nullable=False, comment="of the newest code that was taken"),
)
"""Time-based codes after RFC 6238; a code is taken once."""

recovery_codes = sa.Table(
    "recovery_codes",
    metadata,
    sa.Column("sign_in_id", sa.ForeignKey("sign_ins.id"), primary_key=True),
    sa.Column("code_hash", sa.String(64), primary_key=True),
)
"""Codes in place of a second factor that was lost, each once."""

sign_in_links = sa.Table(
    "sign_in_links",
    metadata,
    sa.Column("token_hash", sa.String(64), primary_key=True),
    sa.Column("kind", sa.String(16), nullable=False, comment="setup or password"),
    sa.Column("sign_in_id", sa.ForeignKey("sign_ins.id"), index=True, comment="whose password; NULL for a setup"),
    sa.Column("made_at", Instant, nullable=False),
    sa.Column("expires_at", Instant, nullable=False),
    sa.Column("used_at", Instant),
)
"""Links that work once."""

failed_tries = sa.Table(
    "failed_tries",
    metadata,
    code_column("email", 254, primary_key=True),
    code_column("origin", 64, primary_key=True),
    sa.Column("tries", sa.Integer, nullable=False, comment="counted before they are verified"),
    sa.Column("last_at", Instant, nullable=False, index=True),
)
"""Tries by address and origin together: nobody locks an address out for others. An empty address counts an origin's."""
