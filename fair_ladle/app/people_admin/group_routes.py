"""Groups over HTTP."""

from __future__ import annotations

from typing import Any

from fastapi import Query, Response
from pydantic import BaseModel, Field

from fair_ladle.app.entitlements.routes import ReconcileBody, reconcile_body
from fair_ladle.app.people.rows import ListedPerson
from fair_ladle.app.people_admin import groups as usecases
from fair_ladle.app.plumbing.exports import Format, sheet
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router, for_people_of_a_group, reads_only

routes = Router("/api/groups", "groups", sees="people.see", changes="groups.change")


class GroupBody(BaseModel):
    """A group; members by hand are usernames and codes of groups."""

    account: str
    account_name: str
    code: str
    name: str
    rule: str | None
    members: list[str]
    inside: list[str]
    """Names of the groups in it."""
    named: dict[str, str]
    """What the first members by hand are called, where one group is asked for"""
    precedence: int | None
    source: str
    count: int


class GroupsBody(BaseModel):
    """A part of the groups, and how many there are."""

    total: int
    groups: list[GroupBody]


class GroupName(BaseModel):
    """What a group is called, and who keeps it."""

    account: str
    account_name: str
    code: str
    name: str
    source: str


class GroupWanted(BaseModel):
    """A group as it shall be."""

    account: str = Field(max_length=64)
    code: str = Field(max_length=64)
    name: str = Field(max_length=200)
    rule: str | None = Field(default=None, max_length=4000)
    members: list[str] = Field([], max_length=100_000)
    precedence: int | None = Field(default=None, ge=0, le=1_000_000)

    def wanted(self) -> usecases.GroupTerms:
        """As the use-case has it."""
        return usecases.GroupTerms(self.account, self.code, self.name, self.rule, tuple(self.members), self.precedence)


class MemberBody(BaseModel):
    """Somebody in a group."""

    username: str
    name: str
    status: str


class GroupPreviewBody(BaseModel):
    """Who would be in a group, who would come and who leave: some of them, and how many."""

    count: int
    people: list[MemberBody]
    come_count: int
    come: list[MemberBody]
    leave_count: int
    leave: list[MemberBody]
    seats: ReconcileBody | None
    """What becomes of the seats it gives; null where it gives none."""


class Members(BaseModel):
    """Whom to put in and take out by hand."""

    add: list[str] = Field([], max_length=10_000)
    take: list[str] = Field([], max_length=10_000)


class Order(BaseModel):
    """The codes of an account's groups, the first to count first."""

    codes: list[str] = Field(max_length=10_000)


class Changed(BaseModel):
    """How many members changed."""

    changed: int


def _people(rows: list[ListedPerson]) -> list[MemberBody]:
    return [MemberBody(username=each.username, name=each.display_name, status=each.status) for each in rows]


def _body(row: usecases.GroupRow) -> GroupBody:
    return GroupBody(
        account=row.account,
        account_name=row.account_name,
        code=row.group.code,
        name=row.group.name,
        rule=row.group.rule,
        members=list(row.group.members),
        inside=row.inside,
        named=row.named,
        precedence=row.group.precedence,
        source=row.group.source,
        count=row.count,
    )


@routes.get("", response_model=GroupsBody)
def groups(
    db: Db,
    who: Who,
    find: str = Query("", max_length=100),
    offset: int = Query(0, ge=0, le=1_000_000),
    limit: int = Query(100, ge=1, le=200),
) -> Any:
    """A part of the groups of one's branch whose name, code or account has these words."""
    page = db.snapshot(usecases.groups, who, find, offset, limit)
    return GroupsBody(total=page.total, groups=[_body(row) for row in page.rows])


@routes.get("/export", response_class=Response)
def export(db: Db, who: Who, form: Format, find: str = Query("", max_length=100)) -> Response:
    """The groups whose name, code or account has these words, as a file; members by hand stand with semicolons."""
    columns = ["account", "account_name", "code", "name", "rule", "members", "precedence", "people", "kept_by"]
    rows = (
        [
            each.account,
            each.account_name,
            each.group.code,
            each.group.name,
            each.group.rule,
            ";".join(each.group.members),
            each.group.precedence,
            each.count,
            each.group.source,
        ]
        for part in db.stream(usecases.every_group, who, find)
        for each in part
    )
    return sheet("groups", form, columns, rows)


@routes.get("/names", response_model=list[GroupName])
@for_people_of_a_group
def names(db: Db, who: Who) -> Any:
    """What the groups of one's branch are called, to choose from."""
    every, found = db.snapshot(usecases.ordered, who)
    tree = every.accounts.tree
    return [
        GroupName(
            account=tree.codes[every.row(each)],
            account_name=every.accounts.name(every.row(each)),
            code=each.code,
            name=each.name,
            source=each.source,
        )
        for each in found
    ]


@routes.get("/{account}/{code}", response_model=GroupBody)
def group(account: str, code: str, db: Db, who: Who) -> Any:
    """One group of one's branch."""
    return _body(db.snapshot(usecases.group, who, f"{account}/{code}"))


@routes.post("/preview", response_model=GroupPreviewBody)
@reads_only
def preview(body: GroupWanted, db: Db, who: Who) -> Any:
    """Who would be in a group; nothing is kept."""
    found = db.run(usecases.preview, who, body.wanted())
    seats = (
        reconcile_body(db.try_out(usecases.put, who, body.wanted()))
        if found.gives and (found.come_count or found.leave_count)
        else None
    )
    return GroupPreviewBody(
        seats=seats,
        count=found.count,
        people=_people(found.people),
        come_count=found.come_count,
        come=_people(found.come),
        leave_count=found.leave_count,
        leave=_people(found.leave),
    )


@routes.put("", status_code=204)
def put(body: GroupWanted, db: Db, who: Who) -> None:
    """Make a group, or change the one of that code; what it gives follows."""
    db.run(usecases.put, who, body.wanted())


@routes.post("/{account}/order", status_code=204)
def order(account: str, body: Order, db: Db, who: Who) -> None:
    """Put an account's groups in an order of precedence."""
    db.run(usecases.order, who, account, body.codes)


@routes.post("/{account}/{code}/members", response_model=Changed)
def members(account: str, code: str, body: Members, db: Db, who: Who) -> Any:
    """Put people into a group by hand, or take them out."""
    return Changed(changed=db.run(usecases.members, who, f"{account}/{code}", body.add, body.take))


@routes.delete("/{account}/{code}", status_code=204)
def forget(account: str, code: str, db: Db, who: Who) -> None:
    """Delete a group."""
    db.run(usecases.forget, who, f"{account}/{code}")
