"""Taking back what is idle, over HTTP."""

from __future__ import annotations

from datetime import datetime
from decimal import Decimal
from typing import Any

from pydantic import BaseModel, Field

from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router, reads_only
from fair_ladle.app.reclaim import answers, idle_seats, usecases
from fair_ladle.app.reclaim.usecases import Act, Criterion, Deed, Run, Taken

KEEP = "/api/keep"
routes = Router("/api/reclaim", "reclaim", sees="people.see", changes="seats.give")
open_routes = Router(KEEP, "reclaim", is_open=True)


class PolicyWanted(BaseModel):
    """Whom a policy takes back from, of what (none = every product that people have seats of), after which notice,
    and what is done."""

    account: str = Field(max_length=64)
    name: str = Field(max_length=200)
    criterion: Criterion
    days: int
    products: list[str] = Field([], max_length=200)
    exempt: list[str] = Field([], max_length=200)
    notice_days: int = 0
    act: Act
    daily: bool = False

    def wanted(self) -> usecases.Policy:
        """As the use-case has it."""
        return usecases.Policy(
            self.account,
            self.name,
            self.criterion,
            self.days,
            tuple(self.products),
            tuple(self.exempt),
            self.notice_days,
            self.act,
            self.daily,
        )


class PolicyBody(PolicyWanted):
    """A policy there is."""

    id: int
    account_name: str


class PolicyId(BaseModel):
    """A policy's number."""

    id: int


class SavedBody(BaseModel):
    """An amount a month."""

    amount: str
    currency: str


class UnseenBody(BaseModel):
    """People not seen for a while, the seats they have, and what those cost a month."""

    days: int
    people: int
    seats: int
    cost: list[SavedBody]
    counted_at: str


class DeedBody(BaseModel):
    """What is done to one person, or why they are left alone."""

    username: str
    name: str
    account_name: str
    what: str
    products: list[str]
    why: str


class IdleRun(BaseModel):
    """What a policy does, or would do: people, seats and what they cost a month; ``left`` are those it leaves alone."""

    notified: int
    done: int
    seats: int
    saved: list[SavedBody]
    deeds: list[DeedBody]
    left: list[DeedBody]


class RunRowBody(BaseModel):
    """A run that was made."""

    id: int
    policy: str
    account_name: str
    at: datetime
    by: str
    undone_at: datetime | None
    undone_by: str | None
    notified: int
    done: int
    seats: int
    saved: list[SavedBody]
    deeds: list[DeedBody]


class UndoneBody(BaseModel):
    """Who has everything again, and who has not."""

    back: list[str]
    missing: list[tuple[str, str]]


class NoticeAsked(BaseModel):
    """What the link of a notice shows."""

    name: str
    until: datetime
    needed: bool


def _saved(taken: list[Taken]) -> list[SavedBody]:
    sums: dict[str, Any] = {}
    for each in taken:
        if not each.currency:  # the prices are somebody else's to know
            continue
        sums[each.currency] = sums.get(each.currency, 0) + each.cost
    return [SavedBody(amount=f"{amount:.2f}", currency=currency) for currency, amount in sorted(sums.items())]


def _deed(each: Deed) -> DeedBody:
    return DeedBody(
        username=each.username,
        name=each.name,
        account_name=each.account_name,
        what=each.what,
        products=[taken.product for taken in each.units],
        why=each.why,
    )


def _run(found: Run) -> IdleRun:
    return IdleRun(
        notified=sum(each.what == "told" for each in found.deeds),
        done=sum(each.what != "told" for each in found.deeds),
        seats=len(found.taken()),
        saved=_saved(found.taken()),
        deeds=[_deed(each) for each in found.deeds[:1000]],
        left=[_deed(each) for each in found.left[:1000]],
    )


def _row(found: usecases.RunRow) -> RunRowBody:
    taken = [
        usecases.Taken(p, a, Decimal(c), m)
        for each in found.deeds
        if each.what in ("released", "suspended")
        for p, a, c, m in each.units
    ]
    return RunRowBody(
        id=found.row.id,
        policy=found.policy,
        account_name=found.account_name,
        at=found.row.at,
        by=found.row.by,
        undone_at=found.row.undone_at,
        undone_by=found.row.undone_by,
        notified=sum(each.what == "told" for each in found.deeds),
        done=sum(each.what != "told" for each in found.deeds),
        seats=len(taken),
        saved=_saved(taken),
        deeds=[
            DeedBody(
                username=each.username,
                name=each.display_name,
                account_name="",
                what=each.what,
                products=[taken[0] for taken in each.units],
                why=each.why,
            )
            for each in found.deeds[:1000]
        ],
    )


@routes.get("", response_model=list[PolicyBody])
def policies(db: Db, who: Who) -> Any:
    """The policies of one's branch."""
    return [
        PolicyBody(
            id=row.id,
            account=code,
            account_name=name,
            name=row.name,
            criterion=row.criterion,
            days=row.days,
            products=row.products,
            exempt=row.exempt,
            notice_days=row.notice_days,
            act=row.act,
            daily=row.daily,
        )
        for row, code, name in db.run(usecases.policies, who)
    ]


@routes.post("", response_model=PolicyId, status_code=201)
def make(body: PolicyWanted, db: Db, who: Who) -> Any:
    """Make a policy."""
    return PolicyId(id=db.run(usecases.put, who, None, body.wanted()))


@routes.put("/{policy_id}", response_model=PolicyId)
def change(policy_id: int, body: PolicyWanted, db: Db, who: Who) -> Any:
    """Change a policy."""
    return PolicyId(id=db.run(usecases.put, who, policy_id, body.wanted()))


@routes.post("/{policy_id}/preview", response_model=IdleRun)
@reads_only
def preview(policy_id: int, db: Db, who: Who) -> Any:
    """What a run would do; nothing is kept."""
    return _run(db.try_out(usecases.run, who, policy_id))


@routes.post("/{policy_id}/run", response_model=IdleRun)
def run(policy_id: int, db: Db, who: Who) -> Any:
    """Run it now."""
    return _run(db.run(usecases.run, who, policy_id))


@routes.get("/unseen", response_model=UnseenBody)
def unseen(db: Db, who: Who) -> Any:
    """Seats of people not seen for sixty days, and what they cost a month."""
    found = db.snapshot(idle_seats.unseen, who)
    return UnseenBody(
        days=found.days,
        people=found.people,
        seats=found.seats,
        cost=[SavedBody(amount=f"{amount:f}", currency=currency) for currency, amount in found.cost.items()],
        counted_at=found.counted_at.isoformat(),
    )


@routes.get("/runs", response_model=list[RunRowBody])
def runs(db: Db, who: Who) -> Any:
    """The runs of one's policies, the newest first."""
    return [_row(each) for each in db.run(usecases.runs, who)]


@routes.post("/runs/{run_id}/undo", response_model=UndoneBody)
def undo(run_id: int, db: Db, who: Who) -> Any:
    """Take a run back."""
    back, missing = db.run(usecases.undo, who, run_id)
    return UndoneBody(back=back, missing=missing)


@open_routes.get("/{token}", response_model=NoticeAsked)
def asked(token: str, db: Db) -> Any:
    """A notice, for whoever has its link."""
    found = db.run(answers.asked, token)
    return NoticeAsked(name=found.name, until=found.until, needed=found.needed)


@open_routes.post("/{token}", response_model=NoticeAsked)
def still_need_it(token: str, db: Db) -> Any:
    """Say that one still needs it."""
    found = db.run(answers.still_need_it, token)
    return NoticeAsked(name=found.name, until=found.until, needed=found.needed)
