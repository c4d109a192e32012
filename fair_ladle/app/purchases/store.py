"""Queries over calendars' addresses."""

from __future__ import annotations

from datetime import datetime

import sqlalchemy as sa

from fair_ladle.app.accounts.tables import accounts
from fair_ladle.app.plumbing.database import fetch_first
from fair_ladle.app.purchases.rows import CalendarRecord
from fair_ladle.app.purchases.tables import calendars


def replace(connection: sa.Connection, sign_in_id: int, account_id: int, token_hash: str | None, at: datetime) -> None:
    """A new address instead of the old one; None = no address any more."""
    connection.execute(
        sa.delete(calendars).where(calendars.c.sign_in_id == sign_in_id, calendars.c.account_id == account_id)
    )
    if token_hash is not None:
        connection.execute(
            sa.insert(calendars).values(token_hash=token_hash, sign_in_id=sign_in_id, account_id=account_id, made_at=at)
        )


def by_token(connection: sa.Connection, token_hash: str) -> CalendarRecord | None:
    """Whose calendar an address is, with the account's code."""
    return fetch_first(
        connection,
        sa.select(calendars, accounts.c.code)
        .join(accounts, accounts.c.id == calendars.c.account_id)
        .where(calendars.c.token_hash == token_hash),
        CalendarRecord,
    )


def made(connection: sa.Connection, sign_in_id: int, account_id: int) -> datetime | None:
    """When somebody's address was made; None where there is none."""
    return connection.scalar(
        sa.select(calendars.c.made_at).where(calendars.c.sign_in_id == sign_in_id, calendars.c.account_id == account_id)
    )
