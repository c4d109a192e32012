"""Setting an installation up, and intakes by upload, over HTTP."""

from __future__ import annotations

from typing import Annotated, Any
from zoneinfo import available_timezones

from fastapi import Body, Form, Query, Request, Response, UploadFile
from pydantic import BaseModel, Field

from fair_ladle.app.data_import.usecases import FaultyIntake
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.problems import Problem, Refused
from fair_ladle.app.plumbing.routing import Router, keeps_order_itself
from fair_ladle.app.setup import usecases
from fair_ladle.app.sign_in.routes import with_session
from fair_ladle.connectors.sheets_in import Fault, Source, Unreadable, read_upload

UPLOAD, SETUP_UPLOAD = "/api/intakes", "/api/setup"
routes = Router("/api", "setup", sees="accounts.see", changes="products.change")
open_routes = Router("/api/setup", "setup", is_open=True)
MOST_FAULTS = 1000


class SetupBody(BaseModel):
    """What a setup can choose from."""

    time_zones: list[str]


class AdminBody(BaseModel):
    """Who runs it first."""

    name: str = Field(max_length=200)
    email: str = Field(max_length=254)
    password: str = Field(max_length=1024)


class OperatorBody(BaseModel):
    """Whose installation it is, and who runs it first."""

    name: str = Field(min_length=1, max_length=200)
    time_zone: str = Field(max_length=64)
    currency: str = Field(max_length=3)
    code: str = Field("", max_length=64, description="as an intake to be brought in later calls it; empty = made here")
    admin: AdminBody


@open_routes.get("/{token}", response_model=SetupBody)
def look_up(token: str, db: Db) -> Any:
    """Whether a setup's link works, and what there is to choose from."""
    db.run(usecases.look_up, token)
    return SetupBody(time_zones=sorted(each for each in available_timezones() if "/" in each or each == "UTC"))


@open_routes.post("/{token}", status_code=204)
@keeps_order_itself
def set_up(token: str, body: OperatorBody, request: Request, db: Db) -> Response:
    """Set a new installation up; the answer carries the session of who runs it."""
    operator = usecases.Operator(body.name, body.time_zone, body.currency, body.code)
    return _begun(db, token, operator, body.admin, request)


@open_routes.post("", status_code=204)
@keeps_order_itself
def set_up_from_an_intake(
    token: Annotated[str, Form(max_length=200)],
    name: Annotated[str, Form(max_length=200)],
    email: Annotated[str, Form(max_length=254)],
    password: Annotated[str, Form(max_length=1024)],
    intake: UploadFile,
    request: Request,
    db: Db,
) -> Response:
    """Set a new installation up from an intake that has the operator, and who runs it first; the answer carries their
    session. All of it, or nothing, with every fault."""
    db.run(usecases.look_up, token)
    try:
        source = read_upload(intake.filename or "", intake.file.read())
    except Unreadable as unreadable:
        raise _told(list(unreadable.faults)) from None
    return _begun(db, token, source, AdminBody(name=name, email=email, password=password), request)


def _begun(db: Db, token: str, operator: usecases.Operator | Source, who: AdminBody, request: Request) -> Response:
    origin = request.client.host if request.client else ""
    try:
        session = usecases.set_up(db, token, operator, usecases.Admin(who.name, who.email, who.password), origin)
    except FaultyIntake as faulty:
        if isinstance(operator, Source):
            raise _told(faulty.faults) from None
        # Where something of the row is wrong there is no operator either: that is told last.
        fault = min(faulty.faults, key=lambda each: each.column == "kind")
        said = f"{fault.found!r} is not valid; expected {fault.expected}."
        raise Refused(Problem("invalid", "Not valid", 422, said, {"where": fault.column})) from None
    return with_session(session, request)


def _told(faults: list[Fault]) -> Refused:
    rows = [vars(each) for each in faults[:MOST_FAULTS]]
    count = f"{len(faults)} {'fault' if len(faults) == 1 else 'faults'}"
    return Refused(
        Problem("faulty-intake", "The intake has faults", 422, f"{count}; nothing was changed.", {"faults": rows})
    )


class TableDone(BaseModel):
    """What an intake did to a table, in rows."""

    table: str
    created: int
    changed: int
    left: int


@routes.post("/intakes", response_model=list[TableDone])
def bring_in(
    db: Db,
    who: Who,
    content: Annotated[bytes, Body(media_type="application/octet-stream")],
    name: Annotated[str, Query(max_length=255)],
) -> Any:
    """Bring an intake in: a zip of its tables, or a workbook. All of it, or nothing, with every fault."""
    try:
        found = db.run(usecases.bring_in, who, read_upload(name, content))
    except FaultyIntake as faulty:
        raise _told(faulty.faults) from None
    except Unreadable as unreadable:
        raise _told(list(unreadable.faults)) from None
    return [
        TableDone(table=table, created=each.created, changed=each.changed, left=each.left)
        for table, each in found.tables.items()
    ]


class StepsBody(BaseModel):
    """What has been done in an installation, of what is worth doing first."""

    products: bool
    purchases: bool
    clients: bool
    delegates: bool
    people: bool
    seats: bool
    mail: bool
    """Whether a mail server is named: without one mails wait."""


@routes.get("/first-steps", response_model=StepsBody)
def steps(db: Db, who: Who) -> Any:
    """What the operator has done of what is worth doing first."""
    return StepsBody(**vars(db.snapshot(usecases.steps, who)))
