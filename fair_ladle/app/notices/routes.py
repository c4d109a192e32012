"""Notices over HTTP: in Today, and on an account's page."""

from __future__ import annotations

from typing import Any

from fastapi import Query
from pydantic import BaseModel, Field

from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.notices import usecases
from fair_ladle.app.notices.rows import NoticeRecord
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.problems import invalid
from fair_ladle.app.plumbing.routing import Router

routes = Router("/api/notices", "notices", sees="allocations.see", changes="allocations.see")


class NoticeBody(BaseModel):
    """Something that was told about an account."""

    id: int
    at: str
    kind: str
    account: str
    name: str
    product: str | None
    subject: str
    text: str


class NoticesBody(BaseModel):
    """Notices, newest first."""

    notices: list[NoticeBody]
    more: bool
    """There are older ones."""


class Seen(BaseModel):
    """Notices to put away: these, or all that one is shown up to one of them (``caps`` = also those
    about caps)."""

    ids: list[int] = Field(default=[], max_length=500)
    until: int | None = None
    caps: bool = True


def notice_body(row: NoticeRecord, accounts: Accounts) -> NoticeBody:
    """A notice for an answer."""
    at = accounts.row_of_id[row.account_id]
    return NoticeBody(
        id=row.id,
        at=row.at.isoformat(),
        kind=row.kind,
        account=accounts.tree.codes[at],
        name=accounts.name(at),
        product=row.product,
        subject=row.subject,
        text=row.text,
    )


@routes.get("", response_model=NoticesBody)
def listed(
    db: Db,
    who: Who,
    account: str | None = Query(None, max_length=64),
    before: int | None = Query(None, ge=1),
    caps: bool = True,
) -> Any:
    """The newest notices of one's branch, or of an account in it, that one has not put away; ``before`` = those older
    than this one, ``caps`` = also those about caps."""

    found = db.snapshot(usecases.page, who, account, before, caps)
    return NoticesBody(notices=[notice_body(each, found.accounts) for each in found.notices], more=found.more)


@routes.post("/seen", status_code=204)
def seen(body: Seen, db: Db, who: Who) -> None:
    """Do not show these to one any more."""
    if body.until is not None:
        db.run(usecases.put_all_away, who, body.until, body.caps)
    elif body.ids:
        db.run(usecases.put_away, who, body.ids)
    else:
        raise invalid("Name the notices to dismiss, or the newest of them.", "ids")
