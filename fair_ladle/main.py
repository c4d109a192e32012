"""The web application: the only place that wires."""

from __future__ import annotations

import logging
import os
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager, suppress
from datetime import timedelta
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import anyio
import sqlalchemy as sa
from fastapi import FastAPI, Request, Response
from fastapi.exceptions import RequestValidationError
from fastapi.middleware.gzip import GZipMiddleware
from fastapi.responses import FileResponse
from starlette.exceptions import HTTPException

from fair_ladle.app.account_admin.routes import routes as account_admin
from fair_ladle.app.accounts.routes import routes as accounts
from fair_ladle.app.allocations.routes import routes as allocations
from fair_ladle.app.assignments import usecases as assignment_usecases
from fair_ladle.app.assignments.routes import routes as assignments
from fair_ladle.app.devices.routes import PUBLIC
from fair_ladle.app.devices.routes import public_routes as device_reports
from fair_ladle.app.devices.routes import routes as devices
from fair_ladle.app.drafts.jobs import apply_due
from fair_ladle.app.drafts.routes import routes as drafts
from fair_ladle.app.enforcement.routes import routes as enforcement
from fair_ladle.app.enforcement.usecases import enforce_all
from fair_ladle.app.entitlements import usecases as entitlement_usecases
from fair_ladle.app.entitlements.routes import routes as entitlements
from fair_ladle.app.leases import usecases as lease_usecases
from fair_ladle.app.leases.routes import public_routes as session_leases
from fair_ladle.app.leases.routes import routes as sessions
from fair_ladle.app.log import usecases as log_usecases
from fair_ladle.app.log.routes import routes as log
from fair_ladle.app.notices.routes import routes as notices
from fair_ladle.app.numbers.routes import routes as numbers
from fair_ladle.app.people_admin.group_routes import routes as groups
from fair_ladle.app.people_admin.join_routes import JOINING
from fair_ladle.app.people_admin.join_routes import open_routes as join_asking
from fair_ladle.app.people_admin.join_routes import routes as domains
from fair_ladle.app.people_admin.routes import JOIN
from fair_ladle.app.people_admin.routes import open_routes as joining
from fair_ladle.app.people_admin.routes import routes as people
from fair_ladle.app.people_import import usecases as people_import_usecases
from fair_ladle.app.people_import.routes import UPLOAD
from fair_ladle.app.people_import.routes import routes as people_imports
from fair_ladle.app.personal_storage.routes import routes as storage_limits
from fair_ladle.app.plumbing import outbox
from fair_ladle.app.plumbing.database import Again, Database
from fair_ladle.app.plumbing.http import problem_response
from fair_ladle.app.plumbing.installation import open_database
from fair_ladle.app.plumbing.problems import Problem, Refused
from fair_ladle.app.plumbing.schedule import Job, run_due
from fair_ladle.app.plumbing.settings import PROJECT, Settings
from fair_ladle.app.purchases.routes import CALENDAR
from fair_ladle.app.purchases.routes import open_routes as calendars
from fair_ladle.app.purchases.routes import routes as purchases
from fair_ladle.app.reclaim.routes import KEEP
from fair_ladle.app.reclaim.routes import open_routes as keeping
from fair_ladle.app.reclaim.routes import routes as reclaim
from fair_ladle.app.reclaim.usecases import run_daily
from fair_ladle.app.requests.routes import routes as requests
from fair_ladle.app.sign_in import usecases as sign_in_usecases
from fair_ladle.app.sign_in.routes import COOKIE
from fair_ladle.app.sign_in.routes import open_routes as sign_in_open
from fair_ladle.app.sign_in.routes import routes as sign_in
from fair_ladle.app.statements.routes import routes as statements
from fair_ladle.app.today.routes import routes as today
from fair_ladle.connectors.mail import Smtp, StandIn
from fair_ladle.demo import reporting
from fair_ladle.demo.mail import FOLDER
from fair_ladle.demo.mail import routes as demo_mail

logger = logging.getLogger("fair_ladle")
WEB = PROJECT / "web" / "dist"
OPEN = {"/api/sign-in", "/api/me", "/api/health", JOINING}
OPEN_BELOW = (CALENDAR, JOIN, JOINING, KEEP, PUBLIC)
"""Addresses that a secret token stands at the end of, and those of devices and sessions, which carry theirs."""
MOST_BODY, MOST_FILE = 2 * 2**20, 20 * 2**20
LOOK_SECONDS = 5
SECURITY_HEADERS = {
    "Content-Security-Policy": "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "
    "object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'",
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
}


def jobs(settings: Settings) -> dict[str, Job]:
    """What is done beside requests, again and again. Mail waits in the outbox where no server is named."""
    found = {
        "seal the log": Job(timedelta(minutes=1), lambda database: database.run(log_usecases.seal_new)),
        "rebuild counters": Job(timedelta(minutes=1), lambda database: database.run(assignment_usecases.rebuild_stale)),
        "apply drafts that are due": Job(timedelta(minutes=1), apply_due),
        "lay the layers out": Job(timedelta(minutes=1), lambda database: database.run(entitlement_usecases.reconcile)),
        "bring people in": Job(timedelta(minutes=1), people_import_usecases.work_all),
        "end lost sessions": Job(timedelta(seconds=20), end_lost_sessions),
        "take back what is idle": Job(timedelta(minutes=15), run_daily),
        "enforce": Job(timedelta(minutes=5), enforce_all),
    }
    if settings.smtp_url is not None:
        smtp = Smtp(settings.smtp_url, settings.mail_from)
        found["send mail"] = Job(timedelta(seconds=20), lambda database: outbox.send(database, smtp.deliver))
    return found


def end_lost_sessions(database: Database) -> None:
    """Part by part, each in a transaction of its own."""
    while database.run(lease_usecases.end_lost) == lease_usecases.AT_ONCE:
        pass


async def upkeep(database: Database, every: dict[str, Job]) -> None:
    """The schedule, as long as the server is up."""
    while True:
        try:
            await anyio.to_thread.run_sync(run_due, database, every)
        except sa.exc.SQLAlchemyError as trouble:
            logger.warning("schedule: %s", type(trouble).__name__)
        await anyio.sleep(LOOK_SECONDS)


def create_app(database: Database | None = None) -> FastAPI:
    """The application on an open database; on the installation's own where none is given."""

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        app.state.database = database or open_database()
        async with anyio.create_task_group() as group:
            group.start_soon(upkeep, app.state.database, jobs(Settings.read()))
            yield
            group.cancel_scope.cancel()

    app = FastAPI(title="Fair Ladle", version="1", docs_url=None, redoc_url=None, openapi_url=None, lifespan=lifespan)
    app.add_middleware(GZipMiddleware, minimum_size=1000, compresslevel=5)
    app.middleware("http")(guard)
    app.add_exception_handler(Refused, _refused)
    app.add_exception_handler(RequestValidationError, _not_valid)
    app.add_exception_handler(HTTPException, _http)
    app.add_exception_handler(sa.exc.OperationalError, _database_down)
    app.add_exception_handler(Again, _busy)
    for router in (
        sign_in_open,
        sign_in,
        accounts,
        account_admin,
        allocations,
        drafts,
        assignments,
        enforcement,
        requests,
        purchases,
        calendars,
        people,
        people_imports,
        groups,
        joining,
        domains,
        join_asking,
        entitlements,
        reclaim,
        keeping,
        storage_limits,
        devices,
        device_reports,
        numbers,
        sessions,
        session_leases,
        notices,
        statements,
        today,
        log,
        demo_mail,
    ):
        app.include_router(router)

    @app.get("/api/health", include_in_schema=False)
    def health() -> dict[str, str]:
        return {"status": "up"}

    @app.get("/api/openapi.json", include_in_schema=False)
    def openapi() -> dict[str, Any]:
        return app.openapi()

    @app.get("/{path:path}", include_in_schema=False)
    def page(path: str) -> Response:
        return _page(path)

    return app


def _page(path: str) -> Response:
    if path.startswith("api/"):
        return problem_response(Problem("not-found", "No such address", 404, f"There is nothing at /{path}."))
    file = (WEB / path).resolve()
    if path and file.is_file() and file.is_relative_to(WEB):
        lasting = "public, max-age=31536000, immutable" if "/assets/" in str(file) else "no-cache"
        return FileResponse(file, headers={"Cache-Control": lasting})
    index = WEB / "index.html"
    # A username or a code may have a dot in it; only what would be a file of the front end is missed as one.
    if not index.exists() or (Path(path).suffix and (path.startswith("assets/") or "/" not in path)):
        return problem_response(Problem("not-found", "No such page", 404, "There is nothing at this address."))
    return FileResponse(index, headers={"Cache-Control": "no-cache"})


async def guard(request: Request, go_on: Callable[[Request], Awaitable[Response]]) -> Response:
    """In front of everything: pages are open, the API is closed but for OPEN; changes carry the session's token."""
    answer = await _guarded(request, go_on)
    for name, value in SECURITY_HEADERS.items():
        answer.headers.setdefault(name, value)
    if request.url.path.startswith("/api/"):
        answer.headers.setdefault("Cache-Control", "no-store")
    return answer


async def _guarded(request: Request, go_on: Callable[[Request], Awaitable[Response]]) -> Response:
    path = request.url.path
    changes = request.method not in ("GET", "HEAD", "OPTIONS")
    if changes:
        # A browser says nothing of the length of a DELETE that has no body.
        bare = request.method == "DELETE" and "Transfer-Encoding" not in request.headers
        length = request.headers.get("Content-Length", "0" if bare else "")
        most = MOST_FILE if path == UPLOAD else MOST_BODY
        if not length.isdigit() or int(length) > most:
            return problem_response(
                Problem(
                    "too-large",
                    "Too large",
                    413,
                    f"At most {most // 2**20} MB here, and the request says how many bytes it has.",
                )
            )
        origin = request.headers.get("Origin")
        if origin is not None and urlsplit(origin).netloc != request.headers.get("Host"):
            return problem_response(
                Problem("other-origin", "From another site", 403, "This request comes from another site.")
            )
    if not path.startswith("/api/") or path in OPEN or path.startswith(tuple(f"{each}/" for each in OPEN_BELOW)):
        return await go_on(request)
    token = request.cookies.get(COOKIE)
    database: Database = request.app.state.database
    found = None
    if token:
        try:
            found = await anyio.to_thread.run_sync(database.run, sign_in_usecases.signed_in, token, _running(request))
        except sa.exc.OperationalError as trouble:
            return await _database_down(request, trouble)
    if found is None:
        return problem_response(Problem("not-signed-in", "Not signed in", 401, "Sign in first."))
    if changes and request.headers.get("X-CSRF-Token") != found.csrf_token:
        return problem_response(
            Problem("no-token", "Not allowed", 403, "A change has to carry the session's X-CSRF-Token.")
        )
    request.state.actor = found.actor
    return await go_on(request)


def _running(request: Request) -> str | None:
    """The branch asked to run: in a header, or, for addresses of files, in the query."""
    return request.headers.get("X-Running") or request.query_params.get("running")


async def _refused(request: Request, refused: Exception) -> Response:
    assert isinstance(refused, Refused)
    return problem_response(refused.problem)


async def _not_valid(request: Request, trouble: Exception) -> Response:
    assert isinstance(trouble, RequestValidationError)
    first = trouble.errors()[0]
    where = ".".join(str(part) for part in first["loc"] if part not in ("body", "query"))
    return problem_response(Problem("invalid", "Not valid", 422, f"{where}: {first['msg']}", {"where": where}))


async def _http(request: Request, trouble: Exception) -> Response:
    assert isinstance(trouble, HTTPException)
    return problem_response(Problem("http", str(trouble.detail), trouble.status_code))


async def _database_down(request: Request, trouble: Exception) -> Response:
    logger.error("the database does not answer: %s", getattr(trouble, "orig", trouble))
    return problem_response(
        Problem(
            "database",
            "The database does not answer",
            503,
            "The database does not answer; nothing was changed. Try again in a moment.",
        )
    )


async def _busy(request: Request, trouble: Exception) -> Response:
    return problem_response(
        Problem("busy", "Too busy", 503, "Too much changed at once; nothing was changed here. Try again.")
    )


def serve(port: int, home: Path, demo: bool) -> None:
    """Serve on 127.0.0.1 until told to stop; a demo without a mail server of its own gets the stand-in."""
    import uvicorn

    pid_file = home / "web.pid"
    pid_file.write_text(str(os.getpid()))
    stand_in = StandIn(home / FOLDER) if demo and Settings.read().smtp_url is None else None
    if stand_in is not None:
        os.environ["FAIR_LADLE_SMTP"] = stand_in.start()
    if demo:
        reporting.begin(open_database(), home, f"http://127.0.0.1:{port}")
    try:
        uvicorn.run(
            create_app(), host="127.0.0.1", port=port, log_level="warning", access_log=False, server_header=False
        )
    finally:
        if stand_in is not None:
            stand_in.stop()
        with suppress(FileNotFoundError):
            pid_file.unlink()
