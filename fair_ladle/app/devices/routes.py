"""Devices over HTTP: what admins do, and what devices themselves do with a key or a token."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from fastapi import Query, Response
from pydantic import BaseModel, Field

from fair_ladle.app.devices import acting, offline, usecases
from fair_ladle.app.plumbing.days import Day
from fair_ladle.app.plumbing.exports import Format, sheet
from fair_ladle.app.plumbing.http import Bearer, Db, ProblemBody, Who, problem_response, written
from fair_ladle.app.plumbing.problems import Problem
from fair_ladle.app.plumbing.routing import Router, answers_a_secret

PUBLIC = "/api/public"
routes = Router("/api/devices", "devices", sees="devices.see", changes="devices.change")
public_routes = Router(f"{PUBLIC}/devices", "public", is_open=True)


class DeviceBody(BaseModel):
    """A device; ``reports``: whether something on it reports, or it is only recorded."""

    machine: str
    name: str | None
    product: str
    product_name: str
    account: str
    account_name: str
    since: datetime
    username: str | None
    person: str | None
    state: str
    on_hold: bool
    reports: bool
    reported_at: datetime | None
    offline_until: datetime | None


class DevicesPage(BaseModel):
    """A part of the devices."""

    total: int
    rows: list[DeviceBody]


class KeyBody(BaseModel):
    """A key, without what it is."""

    id: int
    name: str
    ending: str
    account: str
    account_name: str
    product: str
    product_name: str
    measure: str
    most: int | None
    last_day: date | None
    made_at: datetime
    made_by: str
    withdrawn: bool
    devices: int


class KeyWanted(BaseModel):
    """A key to make."""

    account: str = Field(max_length=64)
    product: str = Field(max_length=64)
    name: str = Field(min_length=1, max_length=200)
    most: int | None = None
    last_day: Day | None = None


class KeyMade(BaseModel):
    """A new key; it is shown only now."""

    id: int
    key: str


class DeviceRef(BaseModel):
    """A device by its product and machine."""

    product: str = Field(max_length=64)
    machine: str = Field(max_length=128)


class DeviceRefs(BaseModel):
    """Devices chosen together: what is done is done with all of them, or with none."""

    devices: list[DeviceRef] = Field(min_length=1, max_length=acting.MOST_AT_ONCE)

    def refs(self) -> list[acting.Ref]:
        """As the use-cases take them."""
        return [(each.product, each.machine) for each in self.devices]


class GiveBody(DeviceRefs):
    """Whom devices are given to; null = nobody."""

    username: str | None = Field(default=None, max_length=128)


class RevokedBody(BaseModel):
    """How many of the revoked devices still report and are told when they do."""

    to_be_told: int


class OfflineWanted(BaseModel):
    """A request file, and for how long its device works without a network."""

    request: dict[str, Any]
    days: int | None = Field(default=None, description="null = as its account has set")


class SignedAnswer(BaseModel):
    """What is carried back to the device."""

    answer: dict[str, Any]
    signature: str


class Activating(BaseModel):
    """A machine that begins with a key."""

    key: str = Field(max_length=100)
    machine: str = Field(min_length=1, max_length=128)
    name: str = Field("", max_length=200)


class Activated(BaseModel):
    """A machine that has a unit; its token is shown only now."""

    token: str
    product: str
    account: str
    public_key: str
    report_again: int


class Reported(BaseModel):
    """What a device hears: active, on hold or revoked, and when to report again."""

    state: str
    says: str | None = None
    report_again: int | None = None


class PublicKey(BaseModel):
    """What answers to request files are checked with (Ed25519, base64)."""

    public_key: str


def _device(e: usecases.Device) -> DeviceBody:
    return DeviceBody(**{**vars(e), "product": e.product.code, "product_name": e.product.name})


@routes.get("", response_model=DevicesPage)
def devices(
    db: Db,
    who: Who,
    find: str = Query("", max_length=200),
    product: str | None = None,
    account: str | None = None,
    username: str | None = None,
    revoked: bool = False,
    sort: usecases.Sort = "machine",
    down: bool = False,
    offset: int = Query(0, ge=0, le=10_000_000),
    limit: int = Query(200, ge=1, le=500),
) -> Any:
    """A part of the devices of one's branch."""
    total, found = db.snapshot(
        usecases.listing, who, find, product, account, username, revoked, sort, down, offset, limit
    )
    return DevicesPage(total=total, rows=[_device(each) for each in found])


@routes.get("/export", response_class=Response)
def export(
    db: Db,
    who: Who,
    form: Format,
    find: str = Query("", max_length=200),
    product: str | None = None,
    account: str | None = None,
    revoked: bool = False,
    sort: usecases.Sort = "machine",
    down: bool = False,
) -> Response:
    """What the list shows, as a file."""
    found = db.stream(usecases.every, who, find, product, account, revoked, sort, down)
    return sheet(
        "devices",
        form,
        [
            "machine",
            "name",
            "product",
            "account",
            "username",
            "since",
            "state",
            "on_hold",
            "reported_at",
            "offline_until",
        ],
        (
            [
                e.machine,
                e.name,
                e.product.code,
                e.account,
                e.username,
                written(e.since),
                e.state,
                e.on_hold,
                written(e.reported_at),
                written(e.offline_until),
            ]
            for e in found
        ),
    )


@routes.get("/keys", response_model=list[KeyBody])
def keys(db: Db, who: Who) -> Any:
    """The keys of one's branch."""
    return [
        KeyBody(
            id=e.row.id,
            name=e.row.name,
            ending=e.row.ending,
            account=e.account,
            account_name=e.account_name,
            product=e.product.code,
            product_name=e.product.name,
            measure=e.product.measure,
            most=e.row.most,
            last_day=e.row.last_day,
            made_at=e.row.made_at,
            made_by=e.row.made_by,
            withdrawn=e.row.withdrawn_at is not None,
            devices=e.devices,
        )
        for e in db.run(usecases.keys, who)
    ]


@routes.post("/keys", response_model=KeyMade, status_code=201)
@answers_a_secret
def make_key(body: KeyWanted, db: Db, who: Who) -> Any:
    """Make a key; the answer alone carries it."""
    key_id, key = db.run(usecases.make_key, who, body.account, body.product, body.name, body.most, body.last_day)
    return KeyMade(id=key_id, key=key)


@routes.delete("/keys/{key_id}", status_code=204)
def withdraw_key(key_id: int, db: Db, who: Who) -> None:
    """Nothing new begins with a key."""
    db.run(usecases.withdraw_key, who, key_id)


@routes.post("/offline", response_model=SignedAnswer)
def answer_offline(body: OfflineWanted, db: Db, who: Who) -> Any:
    """The signed answer to a request file."""
    return SignedAnswer(**db.run(offline.answer, who, body.request, body.days))


@routes.post("/revoke", response_model=RevokedBody)
def revoke(body: DeviceRefs, db: Db, who: Who) -> Any:
    """Take the units of devices back at once; each is told at its next report."""
    return RevokedBody(to_be_told=db.run(acting.revoke, who, body.refs()))


@routes.post("/confirm", status_code=204)
def confirm(body: DeviceRefs, db: Db, who: Who) -> None:
    """The devices are gone and will not report any more."""
    db.run(acting.confirm_revoked, who, body.refs())


@routes.post("/let-back", status_code=204)
def let_back(body: DeviceRefs, db: Db, who: Who) -> None:
    """Revoked devices may be activated again."""
    db.run(acting.let_back, who, body.refs())


@routes.post("/give", status_code=204)
def give(body: GiveBody, db: Db, who: Who) -> None:
    """Move devices to another person."""
    db.run(acting.give_to, who, body.refs(), body.username)


@public_routes.post("/activate", response_model=Activated)
def activate(body: Activating, db: Db) -> Any:
    """A machine begins with a key; a limit that stops it is told."""
    key, token = db.run(usecases.activate, body.key, body.machine, body.name)
    return Activated(
        token=token,
        product=key.product.code,
        account=key.account_name,
        public_key=db.run(offline.public_key),
        report_again=usecases.REPORTS_EVERY,
    )


@public_routes.post(
    "/report", response_model=Reported, responses={410: {"model": ProblemBody, "description": "Revoked"}}
)
def report(token: Bearer, db: Db) -> Any:
    """A device says that it is there, with its token (Authorization: Bearer …); 410 where it was revoked."""
    found = db.run(usecases.report, token)
    if found["state"] == "revoked":
        return problem_response(Problem("device-revoked", "Revoked", 410, found["says"]))
    return Reported(**found)


@public_routes.post("/give-back", status_code=204)
def give_back(token: Bearer, db: Db) -> None:
    """A device gives its unit back."""
    db.run(usecases.give_back, token)


@public_routes.get("/public-key", response_model=PublicKey)
def public_key(db: Db) -> Any:
    """What answers to request files are checked with."""
    return PublicKey(public_key=db.run(offline.public_key))
