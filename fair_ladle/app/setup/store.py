"""Questions about what there is at all."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.people.tables import people
from fair_ladle.app.sign_in.tables import delegations
from fair_ladle.app.usage.tables import assignments


def _is_any(connection: sa.Connection, wanted: sa.Select[tuple[int]]) -> bool:
    return connection.execute(wanted.limit(1)).first() is not None


def somebody_runs_a_client(connection: sa.Connection, operator_id: int) -> bool:
    """Whether anybody runs an account below the operator."""
    d = delegations
    return _is_any(connection, sa.select(d.c.id).where(d.c.account_id != operator_id, d.c.ended_at.is_(None)))


def has_people(connection: sa.Connection) -> bool:
    """Whether there is any person."""
    return _is_any(connection, sa.select(people.c.id))


def has_assignments(connection: sa.Connection) -> bool:
    """Whether any unit was ever given."""
    return _is_any(connection, sa.select(assignments.c.id))
