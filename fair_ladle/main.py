"""The web application: the only place that wires."""

from __future__ import annotations

import logging
import signal
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from ipaddress import ip_address
from pathlib import Path
from typing import Any

import anyio.to_thread
import sqlalchemy as sa
from fastapi import FastAPI, Request, Response
from fastapi.middleware.gzip import GZipMiddleware

from fair_ladle.app.account_admin.routes import routes as account_admin
from fair_ladle.app.accounting.routes import routes as accounting
from fair_ladle.app.accounts.routes import routes as accounts
from fair_ladle.app.allocations.listing_routes import routes as listing
from fair_ladle.app.allocations.routes import routes as allocations
from fair_ladle.app.assignments.routes import routes as assignments
from fair_ladle.app.budgets.routes import routes as budgets
from fair_ladle.app.data_import.routes import routes as products
from fair_ladle.app.data_import.terms_routes import FILES as TERMS_FILES
from fair_ladle.app.data_import.terms_routes import files as terms_files
from fair_ladle.app.data_import.terms_routes import routes as terms
from fair_ladle.app.devices.routes import public_routes as device_reports
from fair_ladle.app.devices.routes import routes as devices
from fair_ladle.app.drafts.routes import routes as drafts
from fair_ladle.app.enforcement.routes import routes as enforcement
from fair_ladle.app.entitlements.routes import routes as entitlements
from fair_ladle.app.history.routes import routes as history
from fair_ladle.app.leases.routes import public_routes as session_leases
from fair_ladle.app.leases.routes import routes as sessions
from fair_ladle.app.log import service as log_service
from fair_ladle.app.log.routes import routes as log
from fair_ladle.app.notices.routes import routes as notices
from fair_ladle.app.numbers.routes import routes as numbers
from fair_ladle.app.people_admin.group_routes import routes as groups
from fair_ladle.app.people_admin.join_routes import open_routes as join_asking
from fair_ladle.app.people_admin.join_routes import routes as domains
from fair_ladle.app.people_admin.routes import open_routes as joining
from fair_ladle.app.people_admin.routes import routes as people
from fair_ladle.app.people_import.routes import UPLOAD
from fair_ladle.app.people_import.routes import routes as people_imports
from fair_ladle.app.personal_storage.routes import routes as storage_limits
from fair_ladle.app.plumbing import metrics
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.errors import add_handlers
from fair_ladle.app.plumbing.guard import Guard
from fair_ladle.app.plumbing.http import (
    PROBLEM_TYPE,
    PROBLEMS,
    SAFE,
    ProblemBody,
    origin_of,
    problem_response,
)
from fair_ladle.app.plumbing.installation import open_database
from fair_ladle.app.plumbing.pages import page
from fair_ladle.app.plumbing.problems import Problem, Refused, not_found
from fair_ladle.app.plumbing.processes import (
    end_with_parent,
    give_memory_back,
    look_for_garbage_seldom,
    share_memory_among_threads,
    take_short_turns,
)
from fair_ladle.app.plumbing.routing import Switchboard
from fair_ladle.app.plumbing.schedule import Schedule
from fair_ladle.app.plumbing.settings import PROJECT, Settings, networks
from fair_ladle.app.plumbing.watch import RequestLog, Watched
from fair_ladle.app.prices.routes import routes as prices
from fair_ladle.app.purchases.routes import INVOICES, invoice_routes
from fair_ladle.app.purchases.routes import open_routes as calendars
from fair_ladle.app.purchases.routes import routes as purchases
from fair_ladle.app.receivables.routes import UPLOAD as BANK_FILES
from fair_ladle.app.receivables.routes import bank_routes, billing_routes, own_routes
from fair_ladle.app.receivables.routes import routes as receivables
from fair_ladle.app.reclaim.routes import open_routes as keeping
from fair_ladle.app.reclaim.routes import routes as reclaim
from fair_ladle.app.requests.routes import routes as requests
from fair_ladle.app.server import usecases as server_usecases
from fair_ladle.app.server.routes import routes as server
from fair_ladle.app.server.table_routes import routes as tables
from fair_ladle.app.setup.routes import SETUP_UPLOAD
from fair_ladle.app.setup.routes import UPLOAD as INTAKE
from fair_ladle.app.setup.routes import open_routes as setup_open
from fair_ladle.app.setup.routes import routes as setup
from fair_ladle.app.sign_in import delegating
from fair_ladle.app.sign_in import keys as keys_in_use
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.app.sign_in.delegation_routes import routes as delegations
from fair_ladle.app.sign_in.key_routes import routes as keys
from fair_ladle.app.sign_in.routes import COOKIE
from fair_ladle.app.sign_in.routes import open_routes as sign_in_open
from fair_ladle.app.sign_in.routes import routes as sign_in
from fair_ladle.app.statements.closing_routes import routes as closings
from fair_ladle.app.statements.margin_routes import routes as margins
from fair_ladle.app.statements.routes import routes as statements
from fair_ladle.app.statements.routes import sums_routes
from fair_ladle.app.statements.trace_routes import routes as traces
from fair_ladle.app.storage.routes import routes as storage
from fair_ladle.app.storage_systems.routes import public_routes as public_storage
from fair_ladle.app.storage_systems.routes import routes as unplaced_reports
from fair_ladle.app.storage_systems.source_routes import UPLOAD as SIZES
from fair_ladle.app.storage_systems.source_routes import routes as storage_sources
from fair_ladle.app.storage_systems.source_routes import table_routes as storage_tables
from fair_ladle.app.today.routes import routes as today
from fair_ladle.demo.mail import routes as demo_mail
from fair_ladle.jobs import jobs

logger = logging.getLogger("fair_ladle")
WEB = PROJECT / "web" / "dist"
THREADS = 40
HEALTH_SECONDS = 5


def find_actor(request: Request, database: Database, see: Callable[..., sign_in_service.SignedIn | None]) -> Actor:
    """Who is behind a request's key, or its session, in the branch asked for; refused where nobody is, or a change made
    in a session lacks its token."""
    scheme, _, key = request.headers.get("Authorization", "").partition(" ")
    if scheme.lower() == "bearer":
        acting = database.run_repeatable(keys_in_use.actor_of, key.strip(), origin_of(request))
        if acting is None:
            raise Refused(Problem("not-signed-in", "Not signed in", 401, "This key does not work (any more)."))
        return acting
    token = request.cookies.get(COOKIE)
    found = see(sign_in_service.signed_in, token, _running(request)) if token else None
    if found is None:
        raise Refused(Problem("not-signed-in", "Not signed in", 401, "Sign in first."))
    if request.method not in SAFE and request.headers.get("X-CSRF-Token") != found.csrf_token:
        raise Refused(Problem("no-token", "Not allowed", 403, "A change has to carry the session's X-CSRF-Token."))
    if found.is_noted_long_ago:
        database.run_repeatable(sign_in_service.note_use, found)
    return found.actor


def as_role(request: Request, database: Database, actor: Actor, account: str, role: str) -> Actor:
    """Who is behind a request, as they would be with a role in an account of theirs."""
    return database.run(delegating.as_role, actor, account, role)


def teller(home: Path) -> Callable[[str, str, int, Watched], None]:
    """What hears of every request: the log of requests of this home, and the figures for Prometheus."""
    log = RequestLog(home / "log")

    def tell(request_id: str, method: str, status: int, watched: Watched) -> None:
        metrics.observe(method, status, watched)
        log.write(
            {
                "request": request_id,
                "method": method,
                "route": watched.route,
                "status": status,
                "ms": round(watched.seconds() * 1000, 1),
                "statements": watched.statements,
                "rows": watched.rows,
                "retries": watched.retries,
            }
        )

    return tell


def _running(request: Request) -> str | None:
    """The branch asked to run: in a header, or, for addresses of files, in the query."""
    return request.headers.get("X-Running") or request.query_params.get("running")


def create_app(database: Database | None = None, jobs_beside: bool = False) -> FastAPI:
    """The application on an open database; on the installation's own where none is given. ``jobs_beside``: another
    process does the jobs."""

    @asynccontextmanager
    async def lifespan(app: FastAPI) -> AsyncIterator[None]:
        app.state.database = database or open_database(serves=True)
        anyio.to_thread.current_default_thread_limiter().total_tokens = THREADS
        schedule = Schedule(app.state.database, [] if jobs_beside else jobs(Settings.read()))
        schedule.start()
        yield
        await anyio.to_thread.run_sync(schedule.stop)

    app = FastAPI(title="Fair Ladle", version="1", docs_url=None, redoc_url=None, openapi_url=None, lifespan=lifespan)
    app.state.find_actor, app.state.as_role = find_actor, as_role
    app.state.note_refusal = log_service.write_refusal
    app.add_middleware(GZipMiddleware, minimum_size=1000, compresslevel=5)
    app.add_middleware(
        Guard,
        uploads=frozenset({UPLOAD, INTAKE, BANK_FILES, INVOICES, SIZES, f"{SIZES}/read", TERMS_FILES}),
        open_uploads=frozenset({SETUP_UPLOAD}),
        cookie=COOKIE,
        tell=teller((database.settings if database else Settings.read()).home),
    )
    add_handlers(app)
    for router in (
        sign_in_open,
        sign_in,
        delegations,
        keys,
        setup_open,
        setup,
        accounts,
        account_admin,
        products,
        allocations,
        listing,
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
        margins,
        traces,
        statements,
        sums_routes,
        closings,
        receivables,
        storage,
        public_storage,
        unplaced_reports,
        storage_sources,
        storage_tables,
        accounting,
        invoice_routes,
        terms,
        terms_files,
        budgets,
        bank_routes,
        billing_routes,
        own_routes,
        prices,
        today,
        log,
        history,
        server,
        tables,
        demo_mail,
    ):
        # Each is whole by itself. Included, the framework would build them all anew at the first request.
        app.router.routes.extend(router.routes)
    app.router.routes.insert(0, Switchboard(app.router.routes))
    app.openapi = lambda: document(app)  # type: ignore[method-assign]

    @app.get("/api/health/alive", include_in_schema=False)
    def alive() -> dict[str, str]:
        """Whether the server answers, whatever its database does."""
        return {"status": "up"}

    @app.get("/metrics", include_in_schema=False)
    def figures(request: Request) -> Response:
        """What the servers do, in Prometheus' text format, for whom the setting names."""
        if not _may_measure(request, app.state.database.settings):
            raise not_found("page", request.url.path)
        told = metrics.exposition(app.state.database.snapshot(server_usecases.gauges))
        return Response(told, media_type="text/plain; version=0.0.4; charset=utf-8")

    @app.get("/api/health", include_in_schema=False, response_model=None)
    def health() -> Response | dict[str, str]:
        """Whether the server is ready: it and its database answer."""
        try:
            with app.state.database.engine.connect() as connection:
                connection.execute(sa.text(f"SET STATEMENT max_statement_time = {HEALTH_SECONDS} FOR SELECT 1"))
        except sa.exc.SQLAlchemyError:
            return problem_response(Problem("database", "The database does not answer", 503))
        return {"status": "up"}

    @app.get("/api/openapi.json", include_in_schema=False)
    def openapi() -> dict[str, Any]:
        """What the API offers."""
        return app.openapi()

    @app.get("/{path:path}", include_in_schema=False)
    def any_page(path: str) -> Response:
        """The front end."""
        return page(WEB, path)

    return app


def _may_measure(request: Request, settings: Settings) -> bool:
    """Whether a request comes from an address the setting names; never one that was passed on by a proxy whose word is
    not taken."""
    named = networks(settings.metrics)
    if not named or request.client is None or (settings.proxy is None and "X-Forwarded-For" in request.headers):
        return False
    try:
        origin = ip_address(request.client.host)
    except ValueError:
        return False
    return any(origin in each for each in named)


def document(app: FastAPI) -> dict[str, Any]:
    """The OpenAPI document, with the refusals that any route may answer."""
    if app.openapi_schema is None:
        found = FastAPI.openapi(app)
        schemas = found["components"]["schemas"]
        schemas["ProblemBody"] = ProblemBody.model_json_schema()
        for unused in ("HTTPValidationError", "ValidationError"):  # the framework's own way to say 422
            schemas.pop(unused, None)
        content = {PROBLEM_TYPE: {"schema": {"$ref": "#/components/schemas/ProblemBody"}}}
        for path in found["paths"].values():
            for operation in path.values():
                answers = operation["responses"]
                for status, text in PROBLEMS.items():
                    answers[str(status)] = {"description": text}
                for status, answer in answers.items():
                    if int(status) >= 400:
                        answer["content"] = content
    assert app.openapi_schema is not None
    return app.openapi_schema


def worker() -> FastAPI:
    """The application in one of several processes; it ends with the one that keeps them, however that ends."""
    end_with_parent(signal.SIGKILL)
    share_memory_among_threads()
    return alone()


def alone() -> FastAPI:
    """The application in the process that keeps the others."""
    app = create_app(jobs_beside=True)
    look_for_garbage_seldom()
    take_short_turns()
    give_memory_back()
    return app
