"""Storage systems over HTTP: what they ask, reserve and report with a key of an account (Authorization: Bearer …), and
what admins see of reports that have no place. Sizes are bytes."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import BaseModel, Field

from fair_ladle.app.devices.routes import PUBLIC
from fair_ladle.app.plumbing.http import Bearer, Db, ProblemBody, Who
from fair_ladle.app.plumbing.routing import Router, reads_only
from fair_ladle.app.storage_systems import unplaced, usecases

OVER: dict[int | str, dict[str, Any]] = {410: {"model": ProblemBody, "description": "The reservation is over"}}
public_routes = Router(f"{PUBLIC}/storage", "public", is_open=True)
routes = Router("/api/unplaced-reports", "storage", sees="devices.see", changes="devices.change")
MOST_REPORTS = 5000


class WhereBody(BaseModel):
    """Where bytes are: in an account (the key's, or the person's own, if not said) a person's own (and there a
    ``part``), a shared folder, or a category. One of the three."""

    account: str | None = Field(None, max_length=64)
    person: str | None = Field(None, max_length=128)
    folder: str | None = Field(None, max_length=64)
    category: str | None = Field(None, max_length=200)
    part: str | None = Field(None, max_length=64)

    def where(self) -> usecases.Where:
        """As the use-cases have it."""
        return usecases.Where(self.account, self.person, self.folder, self.category, self.part)


class BytesAsked(WhereBody):
    """So many bytes more."""

    bytes: int


class ReserveBody(BytesAsked):
    """So many bytes, for so many seconds."""

    seconds: int = 3600


class MayBody(BaseModel):
    """Whether so many bytes may be written, and why not; ``leaves`` is the room in GB (null = nothing in sight limits),
    ``person_limit`` and ``person_used`` (MB) are those of the person's own."""

    admitted: bool
    says: str
    leaves: str | None
    person_limit: int | None
    person_used: int | None


class ReservedBody(BaseModel):
    """What to commit or cancel an upload with, and until when it is held."""

    token: str
    until: datetime


class CommitBody(BaseModel):
    """An upload that is written; ``bytes`` if another size than was reserved."""

    token: str = Field(max_length=100)
    bytes: int | None = None


class CancelBody(BaseModel):
    """An upload that is given up."""

    token: str = Field(max_length=100)


class SizeReport(WhereBody):
    """What is stored there in all at an instant; ``used_at`` is the last use."""

    at: datetime
    bytes: int
    used_at: datetime | None = None


class ReportsBody(BaseModel):
    """Totals, in any order; what was reported before may come again."""

    reports: list[SizeReport] = Field(min_length=1, max_length=MOST_REPORTS)


class RefusedReport(BaseModel):
    """A report that was not taken, by its place in the list (from 0), and why."""

    place: int
    says: str


class ReportedBody(BaseModel):
    """How many were recorded, how many are kept because nobody here knows the account, and which were refused."""

    recorded: int
    unplaced: int
    refused: list[RefusedReport]


@public_routes.post("/may-write", response_model=MayBody)
@reads_only
def may_write(body: BytesAsked, key: Bearer, db: Db) -> Any:
    """May so many bytes be written there? Nothing is held."""
    found = db.run(usecases.may_write, key, body.where(), body.bytes)
    return MayBody(
        admitted=found.admitted,
        says=found.sentence,
        leaves=found.ladder["headroom"],
        person_limit=found.person_limit,
        person_used=found.person_used,
    )


@public_routes.post("/reserve", response_model=ReservedBody)
def reserve(body: ReserveBody, key: Bearer, db: Db) -> Any:
    """Hold so many bytes for an upload; 409 with the ladder where a limit stops it."""
    token, until = db.run(usecases.reserve, key, body.where(), body.bytes, body.seconds)
    return ReservedBody(token=token, until=until)


@public_routes.post("/commit", status_code=204, responses=OVER)
def commit(body: CommitBody, key: Bearer, db: Db) -> None:
    """An upload is written."""
    db.run(usecases.commit, key, body.token, body.bytes)


@public_routes.post("/cancel", status_code=204, responses=OVER)
def cancel(body: CancelBody, key: Bearer, db: Db) -> None:
    """An upload is given up."""
    db.run(usecases.cancel, key, body.token)


@public_routes.post("/write", status_code=204)
def write(body: BytesAsked, key: Bearer, db: Db) -> None:
    """So many bytes more (less, below 0) are there, in one step; 409 with the ladder where a limit stops it."""
    db.run(usecases.write, key, body.where(), body.bytes)


@public_routes.post("/reports", response_model=ReportedBody)
def report(body: ReportsBody, key: Bearer, db: Db) -> Any:
    """Take totals in: each is recorded, kept or refused by itself."""
    wanted = [usecases.Report(each.where(), each.at, each.bytes, each.used_at) for each in body.reports]
    done = db.run(usecases.report, key, wanted)
    refused = [RefusedReport(place=place, says=says) for place, says in done.refused]
    return ReportedBody(recorded=done.recorded, unplaced=done.unplaced, refused=refused)


class UnplacedBody(BaseModel):
    """Reports of an account that nobody knows: how many, of how many series, and the newest; ``now_known`` says whether
    there is such an account in the meantime."""

    account: str
    product: str
    product_name: str
    reports: int
    series: int
    newest: datetime
    now_known: bool


class UnplacedList(BaseModel):
    """All of them."""

    total: int
    rows: list[UnplacedBody]


class UnplacedAct(BaseModel):
    """Record the reports of these accounts where they are known now, or drop them."""

    act: Literal["place", "drop"]
    accounts: list[Annotated[str, Field(max_length=64)]] = Field(min_length=1, max_length=500)


class UnplacedDone(BaseModel):
    """How many reports that was; ``left`` are more than one act takes."""

    done: int
    left: int


@routes.get("", response_model=UnplacedList)
def unplaced_reports(db: Db, who: Who) -> Any:
    """Reports that storage systems of one's branch made of accounts nobody knows."""
    total, rows = db.snapshot(unplaced.listing, who)
    return UnplacedList(
        total=total,
        rows=[
            UnplacedBody(
                account=each.account,
                product=each.product.code,
                product_name=each.product.name,
                reports=each.reports,
                series=each.series,
                newest=each.newest,
                now_known=each.now_known,
            )
            for each in rows
        ],
    )


@routes.post("", response_model=UnplacedDone)
def act_on_unplaced(body: UnplacedAct, db: Db, who: Who) -> Any:
    """Record or drop them."""
    done, left = db.run(unplaced.act, who, body.act, body.accounts)
    return UnplacedDone(done=done, left=left)
