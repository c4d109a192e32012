"""How the servers do, over HTTP."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from pydantic import BaseModel

from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router
from fair_ladle.app.server import usecases

routes = Router("/api/server", "server", sees="server.see", changes="server.see")


class RouteBody(BaseModel):
    """What the requests of a route have cost since the server began; times in seconds, to the next step of the
    measure (null = over ten)."""

    method: str
    route: str
    count: int
    middle: float | None
    p95: float | None
    statements: float
    refused: int
    failed: int
    retries: int


class JobBody(BaseModel):
    """A job: when it last ran and is due, how late it is, and why its last run failed (null = it did not)."""

    name: str
    ran_at: datetime | None
    due_at: datetime
    late_seconds: float
    running: bool
    trouble: str | None


class ServerBody(BaseModel):
    """How the servers do."""

    at: datetime
    processes: int
    megabytes: int
    assigned: int
    released: int
    routes: list[RouteBody]
    jobs: list[JobBody]


@routes.get("", response_model=ServerBody)
def state(db: Db, who: Who) -> Any:
    """Requests with what they cost, jobs with how late they are; for the operator's side only."""
    found = db.snapshot(usecases.state, who)
    return ServerBody(
        at=found.at,
        processes=found.processes,
        megabytes=round(found.megabytes),
        assigned=found.units.get("assigned", 0),
        released=found.units.get("released", 0),
        routes=[
            RouteBody(
                method=each.method,
                route=each.route,
                count=each.count,
                middle=_shown(each.middle),
                p95=_shown(each.p95),
                statements=round(each.statements, 1),
                refused=each.refused,
                failed=each.failed,
                retries=each.retries,
            )
            for each in found.routes
        ],
        jobs=[
            JobBody(
                name=each.name,
                ran_at=each.ran_at,
                due_at=each.due_at,
                late_seconds=round(each.late_seconds, 1),
                running=each.is_running,
                trouble=each.trouble,
            )
            for each in found.jobs
        ],
    )


def _shown(seconds: float) -> float | None:
    return None if seconds == float("inf") else seconds
