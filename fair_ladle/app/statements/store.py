"""Queries over rate cards."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa

from fair_ladle.app.statements.tables import rate_tiers, rates

__all__ = ["all_rates", "all_tiers", "rate_tiers", "rates", "replace_tiers"]


def all_rates(connection: sa.Connection) -> list[Any]:
    """Every rate, by first day."""
    return list(connection.execute(sa.select(rates).order_by(rates.c.first_day, rates.c.id)))


def all_tiers(connection: sa.Connection) -> list[Any]:
    """Every tier, ascending within its rate."""
    return list(connection.execute(sa.select(rate_tiers).order_by(rate_tiers.c.rate_id, rate_tiers.c.from_quantity)))


def replace_tiers(connection: sa.Connection, rate_ids: list[int], rows: list[dict[str, Any]]) -> None:
    """Give these rates other tiers."""
    connection.execute(sa.delete(rate_tiers).where(rate_tiers.c.rate_id.in_(rate_ids)))
    connection.execute(sa.insert(rate_tiers), rows)
