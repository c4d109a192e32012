"""People over HTTP: the list, acts on many, one person, and joining by invitation."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal

from fastapi import Depends, Query, Response

from fair_ladle.app.people_admin import acting, erasing, joining, listing, views
from fair_ladle.app.people_admin.listing import Asked, Sort
from fair_ladle.app.people_admin.schemas import (
    ActBody,
    AlsoBody,
    AsideBody,
    AsideOf,
    CouldNotBody,
    DoneBody,
    FactsBody,
    GroupOf,
    HoldingBody,
    HowMany,
    InvitationBody,
    InvitationsActBody,
    LayerCell,
    LimitBody,
    LostBody,
    MoveBytesBody,
    NewPersonBody,
    OutcomeBody,
    PastBody,
    PeopleActBody,
    PeoplePage,
    PersonBody,
    PersonLayer,
    PersonRow,
    RunsBody,
    SeatsActBody,
    SeatsBody,
    StayedBody,
    StorageBody,
    StoredBody,
    SwitchBody,
    Username,
    ViewBody,
)
from fair_ladle.app.people_admin.seat_acts import Outcome
from fair_ladle.app.personal_storage.usecases import Storage
from fair_ladle.app.plumbing.exports import Format, sheet
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.routing import Router, for_people_of_a_group, needs, reads_only
from fair_ladle.core.quantities import to_units

JOIN = "/api/invitations"
routes = Router("/api/people", "people", sees="people.see", changes="people.change")
open_routes = Router(JOIN, "people", is_open=True)
Text = Annotated[str | None, Query(max_length=200)]


def _row(row: listing.Row) -> dict[str, Any]:
    each = row.person
    return {
        "username": each.username,
        "name": each.display_name,
        "email": each.email,
        "account": row.account,
        "account_name": row.account_name,
        "status": each.status,
        "title": each.title,
        "department": each.department,
        "invited_at": each.invited_at,
        "invitation": row.invitation,
        "last_seen_at": each.last_seen_at,
        "protected": each.protected,
        "admin": each.admin,
        "source": each.source,
        "products": row.products,
        "groups": row.groups,
        "storage": [_storage(e) for e in row.storage],
    }


def _storage(e: Storage) -> StorageBody:
    gb = e.product.measure
    return StorageBody(
        product=e.product.code,
        product_name=e.product.name,
        used=f"{to_units(e.used, gb):f}",
        limit=None if e.limit is None else f"{to_units(e.limit, gb):f}",
        layer=e.layer,
        source=e.source,
    )


def outcome_body(found: Outcome) -> OutcomeBody:
    """An outcome for an answer; reasons of a few hundred people at most."""
    return OutcomeBody(
        asked=found.asked,
        done=len(found.done),
        released=found.released,
        run_no_more=found.run_no_more,
        lost=[LostBody(component=name, people=count) for name, count in found.lost.items()],
        stored=[
            StoredBody(product_name=e.product.name, people=e.people, size=e.product.said(e.grains))
            for e in found.stored
        ],
        could_not=[CouldNotBody(username=e.username, name=e.name, why=e.why) for e in found.could_not[:500]],
        seats=[
            SeatsBody(
                account=e.account,
                account_name=e.account_name,
                product=e.product.code,
                product_name=e.product.name,
                unit=e.product.unit,
                needed=e.needed,
                given=e.given,
                left=e.left,
            )
            for e in found.seats
        ],
    )


async def asked_of(
    find: str = Query("", max_length=200),
    account: Text = None,
    group: Text = None,
    product: Text = None,
    without: Text = None,
    status: Literal["active", "invited", "suspended", "removed"] | None = None,
    seen: Text = None,
    admin: bool | None = None,
    protected: bool | None = None,
    source: Text = None,
    filter: str | None = Query(None, max_length=4000),
    component: Text = None,  # noqa: A002
) -> Asked:
    """What of the list an address asks for."""
    return Asked(
        find, account, group, product, without, status, seen, admin, protected, source, filter, component=component
    )


AskedOf = Annotated[Asked, Depends(asked_of)]


@routes.get("", response_model=PeoplePage)
@for_people_of_a_group
def people(
    db: Db,
    who: Who,
    asked: AskedOf,
    sort: Sort = "name",
    down: bool = False,
    offset: int = Query(0, ge=0, le=10_000_000),
    limit: int = Query(100, ge=1, le=500),
) -> Any:
    """A part of the people list of one's branch."""
    found = db.snapshot(listing.listing, who, asked, sort, down, offset, limit)
    return PeoplePage(total=found.total, offset=offset, rows=[PersonRow(**_row(each)) for each in found.rows])


@routes.get("/count", response_model=HowMany)
@for_people_of_a_group
def count(db: Db, who: Who, asked: AskedOf) -> Any:
    """How many people the list has."""
    return HowMany(count=db.snapshot(listing.count, who, asked))


@routes.get("/export", response_class=Response)
@for_people_of_a_group
def export(db: Db, who: Who, form: Format, asked: AskedOf, sort: Sort = "name", down: bool = False) -> Response:
    """What the list shows, as a file."""
    names = [
        "username",
        "name",
        "email",
        "account",
        "status",
        "title",
        "department",
        "invited_at",
        "last_seen_at",
        "protected",
        "products",
        "groups",
    ]

    def cell(value: Any) -> Any:
        if isinstance(value, list):
            return ";".join(value)
        return value.isoformat() if isinstance(value, datetime) else value

    people = map(_row, db.stream(listing.every, who, asked, sort, down))
    return sheet("people", form, names, ([cell(each[name]) for name in names] for each in people))


@routes.post("", response_model=Username, status_code=201)
def add(body: NewPersonBody, db: Db, who: Who) -> Any:
    """Add somebody, invited by mail or active at once."""
    return Username(username=db.run(joining.add, who, joining.NewPerson(**body.model_dump())))


@routes.post("/preview", response_model=OutcomeBody)
@reads_only
@for_people_of_a_group
def preview(body: ActBody, db: Db, who: Who) -> Any:
    """What an act would do; nothing of it is kept."""
    return outcome_body(db.try_out(acting.act, who, body.act, body.people.asked(), body.how()))


@routes.post("/act", response_model=OutcomeBody)
def act(body: PeopleActBody, db: Db, who: Who) -> Any:
    """Do one thing to many people; each it cannot be done to comes back with the reason."""
    return outcome_body(db.run(acting.act, who, body.act, body.people.asked(), body.how()))


@routes.post("/seats", response_model=OutcomeBody)
@needs("seats.give")
@for_people_of_a_group
def act_on_seats(body: SeatsActBody, db: Db, who: Who) -> Any:
    """Give many people a seat, or do something with the ones they have; each it cannot be done to comes back with the
    reason."""
    return outcome_body(db.run(acting.act, who, body.act, body.people.asked(), body.how()))


@routes.post("/invitations", response_model=OutcomeBody)
@needs("people.invite")
@for_people_of_a_group
def act_on_invitations(body: InvitationsActBody, db: Db, who: Who) -> Any:
    """Send many people their invitation again, or withdraw it; each it cannot be done to comes back with the reason."""
    return outcome_body(db.run(acting.act, who, body.act, body.people.asked(), body.how()))


@routes.get("/set-aside", response_model=list[AsideBody])
def set_aside(db: Db, who: Who) -> Any:
    """Seats that are set aside in one's branch, the longest first."""
    return [
        AsideBody(
            product=p.code,
            product_name=p.name,
            username=row.username,
            name=row.display_name,
            status=row.status,
            account=account,
            account_name=name,
            since=row.begins,
        )
        for row, p, account, name in db.run(listing.reserved_seats, who)
    ]


@routes.get("/views", response_model=list[ViewBody])
@for_people_of_a_group
def kept_views(db: Db, who: Who) -> Any:
    """One's kept views of the list."""
    return [ViewBody(name=row.name, query=row.query) for row in db.run(views.views, who)]


@routes.put("/views", status_code=204)
@needs("people.see")
@for_people_of_a_group
def keep_view(body: ViewBody, db: Db, who: Who) -> None:
    """Keep a view under a name."""
    db.run(views.keep, who, body.name, body.query)


@routes.delete("/views/{name}", status_code=204)
@needs("people.see")
@for_people_of_a_group
def forget_view(name: str, db: Db, who: Who) -> None:
    """Put a view away."""
    db.run(views.forget, who, name)


def _person(found: listing.Person) -> PersonBody:
    return PersonBody(
        **_row(found.row),
        way=found.way,
        layers=[
            PersonLayer(
                product=e.product.code,
                product_name=e.product.name,
                components=list(e.product.components),
                mandatory=list(e.product.mandatory),
                cells=[LayerCell(layer=cell.layer, components=cell.on) for cell in e.cells],
                direct=e.direct,
                off=e.off,
                switched_on=e.switched_on,
                barred=dict(e.barred),
                result=e.on,
                has=e.has,
                waits_since=e.waits_since,
                instead=e.instead,
            )
            for e in found.layers
        ],
        holdings=[
            HoldingBody(
                product=e.product.code, product_name=e.product.name, account=e.account, since=e.since, on_hold=e.on_hold
            )
            for e in found.holdings
        ],
        member_of=[
            GroupOf(account=account, code=code, name=name, reasons=reasons)
            for account, code, name, reasons in found.groups
        ],
        aside=[AsideOf(product=e.code, product_name=e.name) for e in found.reservations],
        stored=[_storage(e) for e in found.stored],
        stayed=[
            StayedBody(
                account=o.account,
                account_name=o.account_name,
                product=e.product.code,
                product_name=e.product.name,
                stored=f"{to_units(o.grains, e.product.measure):f}",
            )
            for e in found.stored
            for o in e.elsewhere
        ],
        runs=[RunsBody(name=name, role=role) for name, role in found.runs],
        also=[AlsoBody(username=u, account=a, name=n) for u, a, n in found.also],
        past=[
            PastBody(product_name=found.products[e.product_id].name, begins=e.begins, ends=e.ends) for e in found.past
        ],
        history=[
            DoneBody(at=e.at, actor=e.actor, action=e.action, before=e.before, after=e.after) for e in found.history
        ],
    )


@routes.get("/{username}", response_model=PersonBody)
@for_people_of_a_group
def person(username: str, db: Db, who: Who) -> Any:
    """One person of one's branch."""
    return _person(db.snapshot(listing.person, who, username))


@routes.put("/{username}", response_model=PersonBody)
def edit(username: str, body: FactsBody, db: Db, who: Who) -> Any:
    """Another name, address, title or department."""
    db.run(joining.edit, who, username, joining.PersonDetails(**body.model_dump()))
    return _person(db.run(listing.person, who, username))


@routes.post("/{username}/unlock", status_code=204)
@needs("people.invite")
@for_people_of_a_group
def unlock(username: str, db: Db, who: Who) -> None:
    """Let somebody try again to sign in, after too many tries at their address failed."""
    db.run(listing.unlock, who, username)


@routes.post("/{username}/erase", response_model=Username)
def erase(username: str, db: Db, who: Who) -> Any:
    """Take out all that is known of somebody who was removed, for good; what they are called from now on."""
    return Username(username=db.run(erasing.erase, who, username))


@routes.put("/{username}/components", response_model=PersonBody)
@for_people_of_a_group
@needs("seats.give")
def switch(username: str, body: SwitchBody, db: Db, who: Who) -> Any:
    """Switch a component of what somebody has off, or on again."""
    db.run(listing.switch, who, username, body.product, body.component, body.on)
    return _person(db.run(listing.person, who, username))


@routes.put("/{username}/storage", response_model=PersonBody)
@needs("layers.change")
def storage_limit(username: str, body: LimitBody, db: Db, who: Who) -> Any:
    """Set somebody's own storage limit, or leave it to the layers."""
    db.run(listing.set_storage_limit, who, username, body.product, body.amount)
    return _person(db.run(listing.person, who, username))


@routes.post("/{username}/bytes", response_model=PersonBody)
@needs("seats.give")
def move_bytes(username: str, body: MoveBytesBody, db: Db, who: Who) -> Any:
    """Move bytes that stayed in an account somebody has left to where they are now."""
    db.run(listing.move_bytes, who, username, body.from_account)
    return _person(db.run(listing.person, who, username))


@open_routes.get("/{token}", response_model=InvitationBody)
def invitation(token: str, db: Db) -> Any:
    """An invitation, for whoever has its link."""
    found = db.run(joining.invitation, token)
    return InvitationBody(name=found.name, account=found.account, until=found.until)


@open_routes.post("/{token}", response_model=InvitationBody)
def accept(token: str, db: Db) -> Any:
    """Join."""
    found = db.run(joining.accept, token)
    return InvitationBody(name=found.name, account=found.account, until=found.until)
