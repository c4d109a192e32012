"""People and groups as others need them."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

from fair_ladle.app.people import store
from fair_ladle.app.plumbing.database import Unit
from fair_ladle.app.plumbing.merge import Merged, merge


def bring_in_people(unit: Unit, rows: list[dict[str, Any]]) -> Merged:
    """Create and change people by username."""
    return merge(unit.connection, store.people, ["username"], rows)


def bring_in_groups(unit: Unit, rows: list[dict[str, Any]]) -> Merged:
    """Create and change groups by account and code."""
    return merge(unit.connection, store.groups, ["account_id", "code"], rows)


def known_names(unit: Unit) -> tuple[frozenset[str], frozenset[str]]:
    """Every username, and every group's code."""
    return store.codes_and_usernames(unit.connection)


def by_username(unit: Unit, usernames: Collection[str]) -> dict[str, Any]:
    """People by username; those unknown are left out."""
    return {row.username: row for row in store.named(unit.connection, usernames)}


def active_by_account(unit: Unit) -> dict[int, int]:
    """How many active people each account itself has, by the account's id."""
    return store.active_by_account(unit.connection)


def counts(unit: Unit, account_ids: Collection[int]) -> dict[str, int]:
    """How many people these accounts have, by status."""
    return store.counts(unit.connection, account_ids)
