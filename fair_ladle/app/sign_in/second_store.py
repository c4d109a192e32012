"""Queries over second factors, and over who is required to have one."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.accounts.tables import accounts
from fair_ladle.app.plumbing.database import fetch, fetch_first
from fair_ladle.app.sign_in.rows import SecondFactorRecord, SecondFactorRule
from fair_ladle.app.sign_in.tables import (
    delegations,
    recovery_codes,
    second_factor_rules,
    second_factors,
)

_above = accounts.alias("above")
REQUIRED = sa.exists().where(
    _above.c.id == second_factor_rules.c.account_id,
    accounts.c.path.startswith(_above.c.path),
    sa.or_(
        second_factor_rules.c.role == "",
        second_factor_rules.c.role == delegations.c.role,
        sa.cast(second_factor_rules.c.role, sa.BigInteger) == delegations.c.role_id,
    ),
)
"""A rule of the delegation's account, or of one above it, asks its role for a second factor."""


def second_factor(connection: sa.Connection, sign_in_id: int, locked: bool = False) -> SecondFactorRecord | None:
    """A sign-in's second factor, in force or not yet."""
    wanted = sa.select(second_factors).where(second_factors.c.sign_in_id == sign_in_id)
    return fetch_first(connection, wanted.with_for_update() if locked else wanted, SecondFactorRecord)


def put_second_factor(connection: sa.Connection, sign_in_id: int, values: dict[str, Any]) -> None:
    """Make or change a sign-in's second factor."""
    new = mysql.insert(second_factors).values(sign_in_id=sign_in_id, **{"last_step": 0, **values})
    connection.execute(new.on_duplicate_key_update(**values))


def drop_second_factor(connection: sa.Connection, sign_in_id: int) -> None:
    """A sign-in has no second factor any more."""
    for table in (second_factors, recovery_codes):
        connection.execute(sa.delete(table).where(table.c.sign_in_id == sign_in_id))


def put_recovery_codes(connection: sa.Connection, sign_in_id: int, hashes: Collection[str]) -> None:
    """Other recovery codes in place of those there were."""
    connection.execute(sa.delete(recovery_codes).where(recovery_codes.c.sign_in_id == sign_in_id))
    connection.execute(sa.insert(recovery_codes), [{"sign_in_id": sign_in_id, "code_hash": each} for each in hashes])


def take_recovery_code(connection: sa.Connection, sign_in_id: int, code_hash: str) -> bool:
    """Use up a recovery code; whether there was one."""
    r = recovery_codes
    gone = connection.execute(sa.delete(r).where(r.c.sign_in_id == sign_in_id, r.c.code_hash == code_hash))
    return gone.rowcount == 1


def recovery_codes_left(connection: sa.Connection, sign_in_id: int) -> int:
    """How many recovery codes a sign-in has left."""
    mine = sa.select(sa.func.count()).where(recovery_codes.c.sign_in_id == sign_in_id)
    return int(connection.scalar(mine) or 0)


def second_factor_rules_in(connection: sa.Connection, inside: sa.ColumnElement[bool]) -> list[SecondFactorRule]:
    """The branches of a branch, and roles in them, that nobody runs without a second factor."""
    r = second_factor_rules
    named = sa.select(r.c.role, accounts.c.code, accounts.c.name).join(accounts, accounts.c.id == r.c.account_id)
    return fetch(connection, named.where(inside).order_by(accounts.c.path, r.c.role), SecondFactorRule)


def put_second_factor_rule(connection: sa.Connection, account_id: int, role: str, required: bool) -> bool:
    """Require a second factor, or require it no more; whether that was otherwise."""
    r = second_factor_rules
    mine = sa.and_(r.c.account_id == account_id, r.c.role == role)
    there = connection.execute(sa.select(r).where(mine)).first() is not None
    if required and not there:
        connection.execute(sa.insert(r).values(account_id=account_id, role=role))
    elif there and not required:
        connection.execute(sa.delete(r).where(mine))
    return there != required


def is_second_factor_required(connection: sa.Connection, sign_in_id: int) -> bool:
    """Whether somebody has a delegation that nobody has without a second factor."""
    d = delegations
    wanted = sa.select(d.c.id).join(accounts, accounts.c.id == d.c.account_id)
    mine = wanted.where(d.c.sign_in_id == sign_in_id, d.c.ended_at.is_(None), REQUIRED)
    return connection.execute(mine.limit(1)).first() is not None
