"""What use-cases and the database raise, as answers after RFC 9457: the one place where they become HTTP."""

from __future__ import annotations

import logging

import sqlalchemy as sa
from anyio import to_thread
from cachetools import TTLCache
from fastapi import FastAPI, Request, Response
from fastapi.exceptions import RequestValidationError
from starlette.exceptions import HTTPException

from fair_ladle.app.plumbing.database import TOO_LONG, WAITED, Again, OutcomeUnknown, code_of
from fair_ladle.app.plumbing.http import SAFE, problem_response
from fair_ladle.app.plumbing.problems import Problem, Refused

logger = logging.getLogger("fair_ladle")
just_noted: TTLCache[tuple[object, ...], bool] = TTLCache(maxsize=10_000, ttl=60)
"""Looking at what one may not see is noted once a minute and path, so that nobody fills the log by asking again."""


def add_handlers(app: FastAPI) -> None:
    """Answer refusals, requests that cannot be read, and a database that is away."""
    app.add_exception_handler(Refused, _refused)
    app.add_exception_handler(RequestValidationError, _not_valid)
    app.add_exception_handler(HTTPException, _http)
    app.add_exception_handler(sa.exc.OperationalError, _database_down)
    app.add_exception_handler(sa.exc.TimeoutError, _busy)
    app.add_exception_handler(Again, _busy)
    app.add_exception_handler(OutcomeUnknown, _unknown)


NOTED = {403, 404, 409}
"""Refusals of who is signed in that are noted: of what they may not do, see or no longer can. Looking for what is not
there is none."""


async def _refused(request: Request, refused: Exception) -> Response:
    assert isinstance(refused, Refused)
    actor = getattr(request.state, "actor", None)
    status = refused.problem.status
    looks = request.method in SAFE or getattr(
        getattr(request.scope.get("route"), "endpoint", None), "reads_only", False
    )
    noted = refused.problem.kind == "not-allowed" if looks else status in NOTED
    asked = f"{request.method} {request.url.path}"
    if actor is not None and noted and looks:
        again = (actor.sign_in_id, actor.delegation_id, actor.key_id, asked)
        noted = again not in just_noted
        if noted:  # asking on does not put the next note off
            just_noted[again] = True
    if actor is not None and noted:
        try:
            await to_thread.run_sync(
                request.app.state.database.run, request.app.state.note_refusal, actor, asked, refused.problem
            )
        except (sa.exc.SQLAlchemyError, Again, OutcomeUnknown):
            logger.exception("a refusal was not noted: %s", asked)
    return problem_response(refused.problem, refused.headers)


async def _not_valid(request: Request, trouble: Exception) -> Response:
    assert isinstance(trouble, RequestValidationError)
    first = trouble.errors()[0]
    where = ".".join(str(part) for part in first["loc"] if part not in ("body", "query", "header"))
    return problem_response(Problem("invalid", "Not valid", 422, f"{where}: {first['msg']}", {"where": where}))


async def _http(request: Request, trouble: Exception) -> Response:
    assert isinstance(trouble, HTTPException)
    return problem_response(Problem("http", str(trouble.detail), trouble.status_code))


async def _database_down(request: Request, trouble: Exception) -> Response:
    if code_of(trouble) in WAITED:
        return await _busy(request, trouble)
    if code_of(trouble) == TOO_LONG:
        said = "This took too long and was given up; nothing was changed. Ask for less at once, or again later."
        return problem_response(Problem("busy", "Too busy", 503, said), {"Retry-After": "30"})
    logger.error("the database does not answer: %s", getattr(trouble, "orig", trouble))
    said = "The database does not answer; nothing was changed. Try again in a moment."
    return problem_response(Problem("database", "The database does not answer", 503, said), {"Retry-After": "5"})


async def _busy(request: Request, trouble: Exception) -> Response:
    said = "Too much changed at once; nothing was changed here. Try again."
    return problem_response(Problem("busy", "Too busy", 503, said), {"Retry-After": "2"})


async def _unknown(request: Request, trouble: Exception) -> Response:
    logger.error("lost in commit: %s", trouble)
    said = "The connection to the database was lost at the last moment. Look whether it was done before you try again."
    return problem_response(Problem("outcome-unknown", "The outcome is not known", 503, said))
