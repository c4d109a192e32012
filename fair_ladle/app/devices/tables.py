"""Keys that devices and sessions begin with, devices that report, and the key that offline answers are signed with."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, code_column, id_column, metadata

activation_keys = sa.Table(
    "activation_keys",
    metadata,
    id_column(),
    sa.Column("touched", sa.BigInteger, nullable=False, server_default="0", comment="goes up with each lock"),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False, index=True),
    sa.Column("product_id", sa.ForeignKey("products.id"), nullable=False),
    sa.Column("name", sa.String(200), nullable=False),
    sa.Column(
        "key_hash", sa.String(64), nullable=False, unique=True, comment="SHA-256 of the key, which is shown once"
    ),
    sa.Column("ending", sa.String(8), nullable=False, comment="its last letters, to tell keys apart"),
    sa.Column("most", sa.Integer, comment="the most devices at once; NULL = what the account's cap lets through"),
    sa.Column("last_day", sa.Date),
    sa.Column("made_at", Instant, nullable=False),
    sa.Column("made_by", sa.String(200), nullable=False),
    sa.Column("withdrawn_at", Instant),
)

devices = sa.Table(
    "devices",
    metadata,
    id_column(),
    sa.Column(
        "key_id",
        sa.ForeignKey("activation_keys.id"),
        index=True,
        comment="NULL: recorded by an intake, known by its name alone",
    ),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False, index=True),
    sa.Column("product_id", sa.ForeignKey("products.id"), nullable=False),
    code_column("machine", 128, nullable=False),
    sa.Column("name", sa.String(200), nullable=False),
    sa.Column("person_id", sa.ForeignKey("people.id"), index=True),
    sa.Column("token_hash", sa.String(64), unique=True),
    sa.Column("state", sa.String(16), nullable=False, comment="active, revoking (told at its next report) or revoked"),
    sa.Column("activated_at", Instant, nullable=False),
    sa.Column("reported_at", Instant),
    sa.Column("offline_until", Instant, comment="until when it works without a network"),
    sa.Column("revoked_at", Instant),
    sa.UniqueConstraint("product_id", "machine"),
)

signing_keys = sa.Table(
    "signing_keys",
    metadata,
    id_column(),
    sa.Column("private", sa.LargeBinary, nullable=False, comment="Ed25519, raw; never leaves the server"),
    sa.Column("made_at", Instant, nullable=False),
)
