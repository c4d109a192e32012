"""Queries over templates."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa

from fair_ladle.app.account_admin.rows import TemplateRecord
from fair_ladle.app.account_admin.tables import account_templates
from fair_ladle.app.plumbing.database import fetch


def templates(connection: sa.Connection, branch_id: int) -> list[TemplateRecord]:
    """The templates of a branch, by name."""
    t = account_templates
    return fetch(connection, sa.select(t).where(t.c.branch_id == branch_id).order_by(t.c.name), TemplateRecord)


def put(connection: sa.Connection, row: dict[str, Any]) -> None:
    """Keep a template under its name, in the place of one of that name."""
    forget(connection, row["branch_id"], row["name"])
    connection.execute(sa.insert(account_templates).values(row))


def forget(connection: sa.Connection, branch_id: int, name: str) -> bool:
    """Put a template away; whether there was one."""
    t = account_templates
    return connection.execute(sa.delete(t).where(t.c.branch_id == branch_id, t.c.name == name)).rowcount > 0
