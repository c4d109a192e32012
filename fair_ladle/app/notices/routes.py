"""Putting notices away over HTTP; they are shown in Today and on an account's page."""

from __future__ import annotations

from pydantic import BaseModel, Field

from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.notices import usecases
from fair_ladle.app.notices.rows import NoticeRecord
from fair_ladle.app.plumbing.http import Db, Who
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


class Seen(BaseModel):
    """Notices to put away."""

    ids: list[int] = Field(min_length=1, max_length=500)


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


@routes.post("/seen", status_code=204)
def seen(body: Seen, db: Db, who: Who) -> None:
    """Do not show these to one any more."""
    db.run(usecases.put_away, who, body.ids)
