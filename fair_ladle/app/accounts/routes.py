"""Finding accounts over HTTP."""

from __future__ import annotations

from typing import Any

from fastapi import Query
from pydantic import BaseModel

from fair_ladle.app.accounts import usecases
from fair_ladle.app.accounts.service import top_row
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router, for_people_of_a_group

routes = Router("/api/accounts", "accounts", sees="accounts.see", changes="accounts.change")


class AccountFound(BaseModel):
    """An account and the names above it, the nearest first, as far as they are in sight."""

    account: str
    name: str
    kind: str
    status: str
    under: list[str]


class AccountChoice(BaseModel):
    """An account to choose, and how far it is below the top of the branch."""

    account: str
    name: str
    full_name: str
    """A department with its client"""
    kind: str
    status: str
    depth: int


class AccountChoices(BaseModel):
    """The top of one's branch, how many accounts it has, and those asked for: of a large branch, only the top."""

    top: str
    total: int
    accounts: list[AccountChoice]


@routes.get("/choices", response_model=AccountChoices)
@for_people_of_a_group
def choices(db: Db, who: Who, code: list[str] = Query([], max_length=200)) -> Any:
    """What the accounts of one's branch (or those of these codes) are called."""
    accounts, total, rows = db.snapshot(usecases.to_choose_from, who, code)
    top = top_row(accounts, who)
    depth = accounts.tree.depth(top)
    return AccountChoices(
        top=accounts.tree.codes[top],
        total=total,
        accounts=[
            AccountChoice(
                account=accounts.tree.codes[row],
                name=accounts.name(row),
                full_name=accounts.full_name(row, top),
                kind=accounts.facts[row].kind,
                status=accounts.status(row),
                depth=accounts.tree.depth(row) - depth,
            )
            for row in rows
        ],
    )


@routes.get("", response_model=list[AccountFound])
def find(db: Db, who: Who, find: str = Query("", max_length=100), limit: int = Query(20, ge=1, le=100)) -> Any:
    """Accounts of one's branch whose name or code has these words, in tree order."""
    accounts, rows = db.snapshot(usecases.find, who, find, limit)
    top = top_row(accounts, who)
    found = []
    for row in rows:
        path = accounts.tree.path_up(row)
        above = path[1 : path.index(top) + 1] if row != top else []
        found.append(
            AccountFound(
                account=accounts.tree.codes[row],
                name=accounts.name(row),
                kind=accounts.facts[row].kind,
                status=accounts.status(row),
                under=[accounts.name(each) for each in above],
            )
        )
    return found
