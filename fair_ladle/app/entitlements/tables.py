"""What layers give, direct switches, seats that a layer gave, and who waits for one."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, code_column, id_column, metadata

entitlements = sa.Table(
    "entitlements",
    metadata,
    id_column(),
    sa.Column(
        "account_id", sa.ForeignKey("accounts.id"), nullable=False, comment="gives to its branch, or to a group of it"
    ),
    sa.Column("group_id", sa.ForeignKey("groups.id"), index=True, comment="NULL = everybody of the branch"),
    sa.Column("product_id", sa.ForeignKey("products.id"), nullable=False),
    sa.Column("components", sa.JSON, nullable=False, comment="codes of those that are on"),
    sa.Column("priority", sa.Integer, nullable=False, comment="the smallest gets its seats first"),
    sa.Index("ix_entitlements_account_id_product_id", "account_id", "product_id"),
)

component_switches = sa.Table(
    "component_switches",
    metadata,
    sa.Column("person_id", sa.ForeignKey("people.id"), primary_key=True),
    sa.Column("product_id", sa.ForeignKey("products.id"), primary_key=True),
    code_column("component", primary_key=True),
    sa.Column("on", sa.Boolean, nullable=False, server_default=sa.false(), comment="switched on, or off"),
)

component_bars = sa.Table(
    "component_bars",
    metadata,
    id_column(),
    sa.Column(
        "account_id", sa.ForeignKey("accounts.id"), nullable=False, comment="bars for its branch, or a group of it"
    ),
    sa.Column("group_id", sa.ForeignKey("groups.id"), index=True, comment="NULL = everybody of the branch"),
    sa.Column("product_id", sa.ForeignKey("products.id"), nullable=False),
    code_column("component", nullable=False),
    sa.Index("ix_component_bars_account_id_product_id", "account_id", "product_id"),
)

rule_seats = sa.Table(
    "rule_seats",
    metadata,
    sa.Column("product_id", sa.ForeignKey("products.id"), primary_key=True),
    sa.Column("person_id", sa.ForeignKey("people.id"), primary_key=True),
    sa.Column(
        "instead_of", sa.ForeignKey("products.id"), comment="a lower one of the family, given by hand; NULL = none"
    ),
    sa.Column("components", sa.JSON, comment="codes of those that were on while a layer gave it"),
)

seat_queue = sa.Table(
    "seat_queue",
    metadata,
    sa.Column("product_id", sa.ForeignKey("products.id"), primary_key=True),
    sa.Column("person_id", sa.ForeignKey("people.id"), primary_key=True),
    sa.Column("since", Instant, nullable=False),
)
