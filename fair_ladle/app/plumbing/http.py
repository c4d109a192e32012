"""The HTTP edge: the open database, the actor behind a request, problem responses, exports."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import replace
from datetime import datetime
from typing import Annotated, Any

from fastapi import Request
from fastapi.responses import JSONResponse
from pydantic import AfterValidator, AwareDatetime, BaseModel, ConfigDict

from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import AskedDatabase, Database
from fair_ladle.app.plumbing.once import KeyedDatabase
from fair_ladle.app.plumbing.problems import Problem, invalid, not_allowed

PROBLEM_TYPE = "application/problem+json"
SAFE = {"GET", "HEAD", "OPTIONS"}
"""Methods that change nothing."""


class ProblemBody(BaseModel):
    """A refusal after RFC 9457; some kinds carry members of their own, such as ``ladder`` or ``faults``."""

    model_config = ConfigDict(extra="allow")
    type: str
    title: str
    status: int
    detail: str


class FileFault(BaseModel):
    """What is wrong in a file, where (None = of the whole), and what would be right."""

    row: int | None
    column: str | None
    found: str
    expected: str


PROBLEMS = {
    400: "Cannot be read",
    401: "Not signed in",
    403: "Not allowed",
    404: "Not there, or out of scope",
    409: "In conflict with what is there",
    413: "Too large",
    422: "Not valid",
    429: "Too many tries",
    500: "Something went wrong; its reference is in the log",
    503: "The database does not answer, or too much changes at once",
}
"""What any route may refuse with, as a ProblemBody. The document of the API says so of each; declared on each route
they would be most of what the server builds while it starts."""


def problem_response(problem: Problem, headers: dict[str, str] | None = None) -> JSONResponse:
    """A Problem as an answer."""
    body = {
        "type": f"urn:fair-ladle:{problem.kind}",
        "title": problem.title,
        "status": problem.status,
        "detail": problem.detail or problem.title,
        **problem.more,
    }
    return JSONResponse(body, problem.status, headers, PROBLEM_TYPE)


Db = AskedDatabase
"""The database this server has open, for one request: a route that names it ``db`` is handed it by its router."""


def _within_bounds(at: datetime) -> datetime:
    """An instant that can be reckoned with in any time zone."""
    if not 1971 <= at.year <= 9000:
        raise ValueError("an instant from 1971 to 9000")
    return at


At = Annotated[AwareDatetime, AfterValidator(_within_bounds)]
"""An instant in a request."""
Keyed = KeyedDatabase
"""The same in a route that changes something, with the request's key."""


class Bearer(str):
    """The key or token that a request carries (Authorization: Bearer …): a route that names one is handed it by its
    router."""

    __slots__ = ()


LONGEST_BEARER = 300


def bearer_of(request: Request) -> Bearer:
    """What a request carries so; refused where it carries nothing."""
    found = request.headers.get("Authorization", "")
    if not 1 <= len(found) <= LONGEST_BEARER:
        raise invalid("Send the key or token with the request, as Authorization: Bearer …", "Authorization")
    return Bearer(found.removeprefix("Bearer ").strip())


def origin_of(request: Request) -> str:
    """The address a request comes from."""
    return request.client.host if request.client else ""


def who_asks(request: Request, db: Database, see: Callable[..., Any]) -> Actor:
    """Whoever is signed in, running the branch asked for, or acts with a key; refused (401, 403) where nobody does, or
    a change does not carry the session's token. ``see`` runs a use-case that only reads."""
    found: Actor = replace(
        request.app.state.find_actor(request, db, see),
        request_id=getattr(request.state, "request_id", None),
        origin=origin_of(request),
    )
    request.state.actor = found
    shown = shown_as(request)
    if shown is not None:
        if not only_looks(request):
            raise not_allowed("This is a read-only preview. Exit the preview to make changes.")
        found = request.app.state.as_role(request, db, found, *shown)
    return found


def only_looks(request: Request) -> bool:
    """Whether a request changes nothing."""
    return request.method in SAFE or bool(getattr(request.scope["route"].endpoint, "reads_only", False))


def shown_as(request: Request) -> tuple[str, str] | None:
    """The account, and the role in it, as which the product is to be shown: in a header, or, for addresses of files, in
    the query."""
    account, _, role = (request.headers.get("X-Shown-As") or request.query_params.get("shown_as") or "").partition(" ")
    return (account, role) if account and role else None


Who = Actor
"""Who asks: a route that names them ``who`` is handed them by its router."""


def written(at: datetime | None) -> str | None:
    """An instant as it stands in a file."""
    return None if at is None else at.isoformat()


def attachment(name: str) -> dict[str, str]:
    """The header of a file to keep; what no header can hold of its name is a hyphen."""
    return {"Content-Disposition": f'attachment; filename="{re.sub(r"[^A-Za-z0-9._-]+", "-", name)}"'}
