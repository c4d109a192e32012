"""Queries over people and groups."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.people.tables import groups, people

__all__ = ["active_by_account", "codes_and_usernames", "counts", "groups", "named", "people"]


def codes_and_usernames(connection: sa.Connection) -> tuple[frozenset[str], frozenset[str]]:
    """Every username, and every group's code."""
    return frozenset(connection.scalars(sa.select(people.c.username))), frozenset(connection.scalars(sa.select(groups.c.code)))


def named(connection: sa.Connection, usernames: Collection[str]) -> list[Any]:
    """People by username."""
    return list(connection.execute(sa.select(people).where(people.c.username.in_(usernames))))


def active_by_account(connection: sa.Connection) -> dict[int, int]:
    """How many active people each account itself has."""
    counted = sa.select(people.c.account_id, sa.func.count()).where(people.c.status == "active").group_by(people.c.account_id)
    return {account_id: count for account_id, count in connection.execute(counted)}


def counts(connection: sa.Connection, account_ids: Collection[int]) -> dict[str, int]:
    """How many people these accounts have, by status."""
    counted = sa.select(people.c.status, sa.func.count()).where(people.c.account_id.in_(account_ids)).group_by(people.c.status)
    return {status: count for status, count in connection.execute(counted)}
