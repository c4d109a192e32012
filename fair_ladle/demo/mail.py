"""The demo's mail: what its stand-in server was given, for the operator's admin."""

from __future__ import annotations

from dataclasses import asdict
from email.utils import parsedate_to_datetime
from typing import Any

from fastapi import Query
from pydantic import BaseModel

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.installation import is_demo
from fair_ladle.app.plumbing.problems import not_found
from fair_ladle.app.plumbing.routing import Router
from fair_ladle.app.plumbing.settings import Settings
from fair_ladle.connectors.mail import kept_mails

FOLDER = "mail"
routes = Router("/api/demo", "demo", sees="server.see")


class MailBody(BaseModel):
    """A mail as it was handed in."""

    to_address: str
    subject: str
    at: str
    body: str
    enclosed: list[str]


@routes.get("/mail", response_model=list[MailBody])
def mail(db: Db, who: Who, limit: int = Query(100, ge=1, le=500)) -> Any:
    """What the demo sent, newest first, in the time of the demo."""
    operator = db.run(accounts_service.operator).code
    if not is_demo(db) or who.scope not in (None, operator):
        raise not_found("mail", "of the demo")
    return [
        MailBody(**{**asdict(each), "at": (parsedate_to_datetime(each.at) + db.clock.shift).isoformat()})
        for each in kept_mails(Settings.read().home / FOLDER, limit)
    ]
