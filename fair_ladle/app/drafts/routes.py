"""Drafts over HTTP. Quantities are whole grains."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date
from typing import Annotated, Any

from fastapi import Query
from pydantic import BaseModel, Field

from fair_ladle.app.allocations.routes import CellName
from fair_ladle.app.drafts import sharing_out, usecases
from fair_ladle.app.drafts.change_types import AllocationChange, Change
from fair_ladle.app.drafts.effects import EffectBody, effect_body
from fair_ladle.app.drafts.preview import Preview
from fair_ladle.app.drafts.preview import preview as preview_changes
from fair_ladle.app.drafts.rows import DraftRecord
from fair_ladle.app.drafts.usecases import Draft
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.days import Day
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router, reads_only

routes = Router("/api/drafts", "drafts", sees="allocations.see", changes="drafts.change")


MOST_SHOWN = 200
Shown = Annotated[list[str] | None, Query(max_length=MOST_SHOWN)]
"""Accounts whose figures are wanted besides those of what is changed; none = of all that differ. An empty name asks for
none besides."""


class ChangeName(BaseModel):
    """A change of a draft."""

    kind: str = Field(max_length=16)
    key: str = Field(max_length=300)


class Edit(BaseModel):
    """Changes to take in and out; ``draft`` null = one's open draft, made if there is none. With ``look_at`` comes
    that cell's ladder; with ``shown`` the figures of these accounts' cells and of those that are changed, else of all
    that differ. ``bare`` = answer without the changes the draft holds, whoever asks having them."""

    draft: int | None
    revision: int
    put: list[Change] = Field([], max_length=usecases.MOST_CHANGES)
    forget: list[ChangeName] = Field([], max_length=usecases.MOST_CHANGES)
    name: str | None = Field(default=None, max_length=200)
    look_at: CellName | None = None
    shown: list[str] | None = Field(default=None, max_length=MOST_SHOWN)
    bare: bool = False


class PreviewAsked(BaseModel):
    """Changes to look at without keeping them, now or as of a day ahead."""

    changes: list[Change] = Field(min_length=1, max_length=usecases.MOST_CHANGES)
    on: Day | None = None
    look_at: CellName | None = None
    shown: list[str] | None = Field(default=None, max_length=MOST_SHOWN)


class Revision(BaseModel):
    """The state of the draft one has looked at."""

    revision: int


class Applying(Revision):
    """The state of the draft one has looked at, and a note for those who are notified."""

    note: str = Field("", max_length=1000)


class DraftReason(BaseModel):
    """Why."""

    reason: str = Field(max_length=1000)


class AskToApply(Revision, DraftReason):
    """The state of the draft one has looked at, and why it should be applied."""


class AskFor(DraftReason):
    """What others shall do, under a name, and why."""

    name: str = Field(max_length=200)
    changes: list[Change] = Field(min_length=1, max_length=usecases.MOST_CHANGES)


class On(Revision):
    """The day to apply it on."""

    day: Day


class Colleague(BaseModel):
    """Whom to share with."""

    email: str = Field(max_length=254)


class DraftSummary(BaseModel):
    """A draft without what it holds."""

    id: int
    name: str
    state: str
    owner: str
    mine: bool
    through: str
    revision: int
    apply_on: date | None
    reason: str | None
    reverses: int | None
    changed_at: str
    applied_at: str | None
    count: int


class DraftBody(DraftSummary):
    """A draft with what it holds, and what that would do (null for one that is applied or holds nothing)."""

    changes: list[Change]
    shared_with: list[str]
    people: dict[str, str]
    """What people among the changes are called, by username"""
    effect: EffectBody | None


def _summary(row: DraftRecord, who: Actor, count: int) -> dict[str, Any]:
    return {
        "id": row.id,
        "name": row.name,
        "state": row.state,
        "owner": row.owner_name,
        "mine": row.owner_id == who.sign_in_id,
        "through": row.through,
        "revision": row.revision,
        "apply_on": row.apply_on,
        "reason": row.reason,
        "reverses": row.reverses_id,
        "changed_at": row.changed_at.isoformat(),
        "applied_at": row.applied_at.isoformat() if row.applied_at else None,
        "count": count,
    }


def _body(
    draft: Draft,
    who: Actor,
    previewed: Preview | None,
    look_at: CellName | None = None,
    shown: Sequence[str] | None = None,
    bare: bool = False,
) -> DraftBody:
    return DraftBody(
        **_summary(draft.row, who, len(draft.changes)),
        changes=[] if bare else draft.changes,
        shared_with=[each.email for each in draft.shared_with],
        people=draft.people,
        effect=None if previewed is None or not draft.changes else effect_body(previewed, who, look_at, shown),
    )


def _looked(shown: Sequence[str] | None, look_at: CellName | None) -> list[str] | None:
    """The accounts that have to be reckoned with besides those that are changed; None = all."""
    return None if shown is None else [*shown, *([look_at.account] if look_at else [])]


def _look_at(account: str | None, product: str | None) -> CellName | None:
    return CellName(account=account, product=product) if account and product else None


@routes.get("", response_model=list[DraftSummary])
def drafts(db: Db, who: Who) -> Any:
    """One's drafts of the branch and those shared with one, newest first."""
    return [DraftSummary(**_summary(row, who, row.changes)) for row in db.run(usecases.seen, who)]


@routes.post("/preview", response_model=EffectBody)
@reads_only
def preview(body: PreviewAsked, db: Db, who: Who) -> Any:
    """What changes would do; nothing is kept."""
    shown, look_at = body.shown, body.look_at
    return db.run(
        lambda tx: effect_body(
            preview_changes(tx, who, body.changes, body.on, _looked(shown, look_at)), who, look_at, shown
        )
    )


class ShareOutWanted(BaseModel):
    """An account, and the least and most it gets in grains (most null = no bound); the two the same = set by hand."""

    account: str = Field(max_length=64)
    least: int = Field(0, ge=0)
    most: int | None = Field(default=None, ge=0)


class ShareOut(BaseModel):
    """What to share out; ``amount`` in grains, null = all that is free."""

    product: str = Field(max_length=64)
    amount: int | None = Field(default=None, ge=0)
    accounts: list[ShareOutWanted] = Field(min_length=1, max_length=10_000)
    way: sharing_out.Way
    as_what: sharing_out.As
    draft: int | None = None
    """The draft the shares go into; what it changes of the product counts as done."""


class PartBody(BaseModel):
    """What an account gets and why, and the change for the draft."""

    account: str
    part: int
    reason: str
    change: AllocationChange | None


class SharedOutBody(BaseModel):
    """The parts in tree order, in grains."""

    amount: int
    free: int | None
    by_draft: int
    left_over: int
    parts: list[PartBody]


@routes.post("/share-out", response_model=SharedOutBody)
@reads_only
def share_out(body: ShareOut, db: Db, who: Who) -> Any:
    """Share an amount of a pool out over accounts; nothing is kept, the changes are for a draft."""
    wanted = [sharing_out.ShareOutWanted(each.account, each.least, each.most) for each in body.accounts]
    found = db.run(sharing_out.share_out, who, body.product, body.amount, wanted, body.way, body.as_what, body.draft)
    return SharedOutBody(
        amount=found.amount,
        free=found.free,
        by_draft=found.by_draft,
        left_over=found.left_over,
        parts=[
            PartBody(account=each.account, part=each.part, reason=each.reason, change=each.change)
            for each in found.parts
        ],
    )


@routes.get("/current", response_model=DraftBody | None)
def current(db: Db, who: Who, account: str | None = None, product: str | None = None, shown: Shown = None) -> Any:
    """The draft one has open, with what it would do; null where there is none."""

    look_at = _look_at(account, product)

    def read(tx: Any) -> DraftBody | None:
        draft = usecases.current(tx, who)
        if draft is None:
            return None
        previewed = preview_changes(tx, who, draft.changes, None, _looked(shown, look_at))
        return _body(draft, who, previewed, look_at, shown)

    return db.run(read)


@routes.patch("", response_model=DraftBody)
def edit(body: Edit, db: Db, who: Who) -> Any:
    """Take changes in and out of a draft; what it then would do comes back."""

    def write(tx: Any) -> DraftBody:
        draft = usecases.edit(
            tx, who, body.draft, body.revision, body.put, [(each.kind, each.key) for each in body.forget], body.name
        )
        previewed = preview_changes(tx, who, draft.changes, None, _looked(body.shown, body.look_at))
        return _body(draft, who, previewed, body.look_at, body.shown, body.bare)

    return db.run(write)


@routes.get("/{draft_id}", response_model=DraftBody)
def get(
    draft_id: int,
    db: Db,
    who: Who,
    account: str | None = Query(None),
    product: str | None = Query(None),
    shown: Shown = None,
    bare: bool = False,
) -> Any:
    """A draft with what it would do now, or on its day; ``bare`` = without the changes it holds."""
    look_at = _look_at(account, product)

    def read(tx: Any) -> DraftBody:
        draft = usecases.get(tx, who, draft_id)
        previewed = (
            None
            if draft.row.state == "applied"
            else preview_changes(tx, who, draft.changes, draft.row.apply_on, _looked(shown, look_at))
        )
        return _body(draft, who, previewed, look_at, shown, bare)

    return db.run(read)


@routes.post("/{draft_id}/apply", response_model=DraftBody)
def apply(draft_id: int, body: Applying, db: Db, who: Who) -> Any:
    """Apply a draft from today on, all of it or nothing."""

    def write(tx: Any) -> DraftBody:
        usecases.apply(tx, who, draft_id, body.revision, body.note)
        return _body(usecases.get(tx, who, draft_id), who, None)

    return db.run(write)


@routes.post("/{draft_id}/schedule", response_model=DraftBody)
def schedule(draft_id: int, body: On, db: Db, who: Who) -> Any:
    """Let a draft be applied on a day ahead."""
    return _body(db.run(usecases.schedule, who, draft_id, body.revision, body.day), who, None)


@routes.post("/ask", response_model=DraftBody)
def ask_for(body: AskFor, db: Db, who: Who) -> Any:
    """Have others do what is above a ceiling of one's own, with the changes that the refusal named."""
    return _body(db.run(usecases.ask_for, who, body.name, body.changes, body.reason), who, None)


@routes.post("/{draft_id}/ask", response_model=DraftBody)
def ask(draft_id: int, body: AskToApply, db: Db, who: Who) -> Any:
    """Have those apply a draft who run the branch without limits, or those above."""
    return _body(db.run(usecases.ask, who, draft_id, body.revision, body.reason), who, None)


@routes.post("/{draft_id}/decline", response_model=DraftBody)
def decline(draft_id: int, body: DraftReason, db: Db, who: Who) -> Any:
    """Say no to a draft one was asked to apply."""
    return _body(db.run(usecases.decline, who, draft_id, body.reason), who, None)


@routes.post("/{draft_id}/open", response_model=DraftBody)
def open_again(draft_id: int, db: Db, who: Who) -> Any:
    """Take a waiting draft back to edit it."""
    return _body(db.run(usecases.open_again, who, draft_id), who, None)


@routes.post("/{draft_id}/discard", status_code=204)
def discard(draft_id: int, db: Db, who: Who) -> None:
    """Put a draft away for good."""
    db.run(usecases.discard, who, draft_id)


@routes.post("/{draft_id}/share", response_model=DraftBody)
def share(draft_id: int, body: Colleague, db: Db, who: Who) -> Any:
    """Share a draft with a colleague."""
    return _body(db.run(usecases.share, who, draft_id, body.email), who, None)


@routes.post("/{draft_id}/reverse", response_model=DraftBody)
def reverse(draft_id: int, db: Db, who: Who) -> Any:
    """Make a draft that puts back what an applied one changed."""

    def write(tx: Any) -> DraftBody:
        draft = usecases.reverse(tx, who, draft_id)
        return _body(draft, who, preview_changes(tx, who, draft.changes))

    return db.run(write)
