"""People over HTTP: what requests and answers look like."""

from __future__ import annotations

from datetime import datetime
from typing import Any, Literal

from pydantic import BaseModel, Field

from fair_ladle.app.people_admin import listing
from fair_ladle.app.people_admin.acting import Act
from fair_ladle.app.people_admin.leaving import Leaving
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.people_admin.seat_acts import ActOptions


class StorageBody(BaseModel):
    """How much somebody stores of a product and may, in GB, and which layer says so."""

    product: str
    product_name: str
    used: str
    limit: str | None
    layer: str | None
    source: str


class StayedBody(BaseModel):
    """Bytes of somebody's own that stayed in an account they have left, in GB."""

    account: str
    account_name: str
    product: str
    product_name: str
    stored: str


class PersonRow(BaseModel):
    """A person in the list; products by code, groups by name."""

    username: str
    name: str
    email: str | None
    account: str
    account_name: str
    status: str
    title: str | None
    department: str | None
    invited_at: datetime | None
    invitation: Literal["not sent", "open", "expired"] | None
    last_seen_at: datetime | None
    protected: bool
    admin: bool
    source: str
    products: list[str]
    groups: list[str]
    storage: list[StorageBody]


class PeoplePage(BaseModel):
    """A part of the list; ``total`` null where counting all takes longer than the part itself: then /count says it."""

    total: int | None
    offset: int
    rows: list[PersonRow]


class HowMany(BaseModel):
    """How many."""

    count: int


class HoldingBody(BaseModel):
    """A product somebody has."""

    product: str
    product_name: str
    account: str
    since: datetime
    on_hold: bool


class GroupOf(BaseModel):
    """A group somebody is in, and how they come to be in it."""

    account: str
    code: str
    name: str
    reasons: list[str]


class RunsBody(BaseModel):
    """An account somebody runs."""

    name: str
    role: str


class AlsoBody(BaseModel):
    """Another person with the same address."""

    username: str
    account: str
    name: str


class PastBody(BaseModel):
    """A unit somebody had or has."""

    product_name: str
    begins: datetime
    ends: datetime | None


class DoneBody(BaseModel):
    """What was done, by whom."""

    at: datetime
    actor: str
    action: str
    before: dict[str, Any] | None
    after: dict[str, Any] | None


class LayerCell(BaseModel):
    """What one layer says of a product: the components it has on."""

    layer: str
    components: list[str]


class PersonLayer(BaseModel):
    """A product and how it reaches somebody; ``direct``: given by hand, without any layer."""

    product: str
    product_name: str
    components: list[str]
    mandatory: list[str]
    cells: list[LayerCell]
    direct: bool
    off: list[str]
    switched_on: list[str]
    barred: dict[str, str]
    """Component → the account or group that bars it."""
    result: list[str]
    has: bool
    waits_since: datetime | None
    instead: str | None


class SwitchBody(BaseModel):
    """A component of a product, on or off for one person."""

    product: str = Field(max_length=64)
    component: str = Field(max_length=64)
    on: bool


class AsideOf(BaseModel):
    """A product of which a seat is set aside for somebody."""

    product: str
    product_name: str


class AsideBody(AsideOf):
    """A seat that is set aside, for whom and since when."""

    username: str
    name: str
    status: str
    account: str
    account_name: str
    since: datetime


class PersonBody(PersonRow):
    """One person's page."""

    way: list[str]
    holdings: list[HoldingBody]
    member_of: list[GroupOf]
    runs: list[RunsBody]
    also: list[AlsoBody]
    past: list[PastBody]
    history: list[DoneBody]
    layers: list[PersonLayer]
    aside: list[AsideOf]
    stored: list[StorageBody]
    stayed: list[StayedBody]


class LimitBody(BaseModel):
    """A limit in GB; null leaves it to the layers."""

    product: str = Field(max_length=64)
    amount: str | None = Field(default=None, max_length=40)


class MoveBytesBody(BaseModel):
    """The account that bytes are moved away from."""

    from_account: str = Field(max_length=64)


class NewPersonBody(BaseModel):
    """Somebody to add."""

    account: str = Field(max_length=64)
    display_name: str = Field(min_length=1, max_length=200)
    email: str | None = Field(default=None, max_length=254)
    username: str | None = Field(default=None, max_length=128)
    title: str | None = Field(default=None, max_length=200)
    department: str | None = Field(default=None, max_length=200)
    invite: bool = True
    link: bool = False
    role: str = Field(
        default="member",
        max_length=32,
        description="member, or in which role they run the account: a ready-made one's key, or a composed one's number",
    )


class FactsBody(BaseModel):
    """What can be changed of a person."""

    display_name: str = Field(min_length=1, max_length=200)
    email: str | None = Field(default=None, max_length=254)
    title: str | None = Field(default=None, max_length=200)
    department: str | None = Field(default=None, max_length=200)


class AskedBody(BaseModel):
    """Whom of the list: everything given has to hold; ``usernames`` null = all of them."""

    find: str = Field("", max_length=200)
    account: str | None = Field(default=None, max_length=64)
    group: str | None = Field(default=None, max_length=200)
    product: str | None = Field(default=None, max_length=64)
    without: str | None = Field(default=None, max_length=64)
    status: Literal["active", "invited", "suspended", "removed"] | None = None
    seen: str | None = Field(default=None, max_length=5)
    admin: bool | None = None
    protected: bool | None = None
    source: str | None = Field(default=None, max_length=64)
    filter: str | None = Field(default=None, max_length=4000)
    usernames: list[str] | None = Field(default=None, max_length=listing.MOST_AT_ONCE)
    component: str | None = Field(default=None, max_length=130)

    def asked(self) -> Asked:
        """As the use-case has it."""
        given = self.model_dump()
        return Asked(**{**given, "usernames": None if self.usernames is None else tuple(self.usernames)})


class LeavingBody(BaseModel):
    """What becomes of what people store in the account they leave (``move``, ``remove``): it stays, is taken along to
    the new account, moved to a person or a shared folder (``to``), or deleted after so many days."""

    what: Literal["keep", "take", "person", "folder", "delete"] = "keep"
    to: str | None = Field(default=None, max_length=128)
    days: int | None = None

    def choice(self) -> Leaving:
        """As the use-case has it."""
        return Leaving(self.what, self.to, self.days)


class ActBody(BaseModel):
    """One act on many people, and what it needs besides."""

    act: Act
    people: AskedBody
    product: str | None = Field(default=None, max_length=64)
    to_product: str | None = Field(default=None, max_length=64)
    to_account: str | None = Field(default=None, max_length=64)
    keep_seats: bool = True
    components: dict[str, str | None] | None = Field(default=None, max_length=100)
    leaving: LeavingBody | None = None

    def how(self) -> ActOptions:
        """As the use-case has it."""
        leaving = Leaving() if self.leaving is None else self.leaving.choice()
        return ActOptions(self.product, self.to_product, self.to_account, self.keep_seats, self.components, leaving)


class PeopleActBody(ActBody):
    """An act on people themselves."""

    act: Literal["suspend", "resume", "protect", "unprotect", "move", "remove", "restore"]


class SeatsActBody(ActBody):
    """An act on people's seats."""

    act: Literal["assign", "release", "swap", "reserve", "cancel reservation"]


class InvitationsActBody(ActBody):
    """An act on people's invitations."""

    act: Literal["invite", "revoke invitation"]


class CouldNotBody(BaseModel):
    """Somebody for whom it could not be done, and why."""

    username: str
    name: str
    why: str


class SeatsBody(BaseModel):
    """Units of a product in an account: needed, given, and left then (null = nothing in sight limits it)."""

    account: str
    account_name: str
    product: str
    product_name: str
    unit: str
    needed: int
    given: int
    left: int | None


class LostBody(BaseModel):
    """A component that a swap has nothing for, and how many people had it on."""

    component: str
    people: int


class StoredBody(BaseModel):
    """What people store of a product in the account they leave: how many of them, and how much, with its unit."""

    product_name: str
    people: int
    size: str


class OutcomeBody(BaseModel):
    """What an act did, or would do."""

    asked: int
    done: int
    released: int
    run_no_more: int
    """Delegations that end with it: who is suspended or removed runs nothing of the branch."""
    seats: list[SeatsBody]
    could_not: list[CouldNotBody]
    lost: list[LostBody]
    stored: list[StoredBody]


class ViewBody(BaseModel):
    """A kept view of the list."""

    name: str = Field(min_length=1, max_length=100)
    query: str = Field(max_length=2000)


class InvitationBody(BaseModel):
    """An invitation as its link shows it."""

    name: str
    account: str
    until: datetime


class Username(BaseModel):
    """A person's username."""

    username: str
