"""Delegations and roles, over HTTP."""

from __future__ import annotations

from datetime import date
from typing import Annotated, Any

from fastapi import Query
from pydantic import BaseModel, Field

from fair_ladle.app.plumbing.days import Day
from fair_ladle.app.plumbing.http import Db, Who
from fair_ladle.app.plumbing.limits import FREE, Ceiling, Limits, limits_of
from fair_ladle.app.plumbing.permissions import PERMISSIONS
from fair_ladle.app.plumbing.routing import Router
from fair_ladle.app.sign_in import delegating, history, roles
from fair_ladle.app.sign_in.rows import GivenDelegation
from fair_ladle.app.sign_in.service import role_name

routes = Router("/api/delegations", "delegations", sees="delegations.see", changes="delegations.give")


class CeilingBody(BaseModel):
    """The most of a pool, in grains, that the branch may hold for more to be given, and that one change may give;
    null = no bound. ``owner``: of the product's pool of this account; null = of each pool that none is said of."""

    product: str = Field(max_length=64)
    owner: str | None = Field(default=None, max_length=64)
    in_all: int | None = None
    at_once: int | None = None


class LimitsBody(BaseModel):
    """How far a delegation goes beside its role. ``products`` (codes), ``groups`` (an account's code, / and their own)
    and ``roles`` (keys) are what may be given, null = any."""

    products: list[Annotated[str, Field(max_length=64)]] | None = Field(default=None, max_length=1000)
    ceilings: list[CeilingBody] = Field([], max_length=1000)
    groups: list[Annotated[str, Field(max_length=130)]] | None = Field(default=None, max_length=1000)
    roles: list[Annotated[str, Field(max_length=32)]] | None = Field(default=None, max_length=100)
    caps: bool = True
    prices: bool = True
    rules: bool = True

    def limits(self) -> Limits:
        """As the use-case has it."""
        products, groups, roles = (
            None if each is None else frozenset(each) for each in (self.products, self.groups, self.roles)
        )
        of_pools = {(each.owner, each.product): Ceiling(each.in_all, each.at_once) for each in self.ceilings}
        ceilings = {code: each for (owner, code), each in of_pools.items() if owner is None}
        pools = {(owner, code): each for (owner, code), each in of_pools.items() if owner is not None}
        return Limits(products, ceilings, pools, groups, roles, self.caps, self.prices, self.rules)


def limits_body(limits: Limits) -> LimitsBody:
    """How far a delegation goes, as it is told."""
    products, groups, roles = (
        None if each is None else sorted(each) for each in (limits.products, limits.groups, limits.roles)
    )
    return LimitsBody(
        products=products,
        ceilings=[
            *(
                CeilingBody(product=code, in_all=each.in_all, at_once=each.at_once)
                for code, each in sorted(limits.ceilings.items())
            ),
            *(
                CeilingBody(product=code, owner=owner, in_all=each.in_all, at_once=each.at_once)
                for (owner, code), each in sorted(limits.pools.items())
            ),
        ],
        groups=groups,
        roles=roles,
        caps=limits.caps,
        prices=limits.prices,
        rules=limits.rules,
    )


class TermsBody(BaseModel):
    """A role (a ready-made one's key, or a composed one's number), days (null = open), whether it may be passed on, and
    how far it goes (null = as far as its role)."""

    role: str = Field(max_length=32)
    first_day: date | None = None
    last_day: date | None = None
    passes_on: bool = False
    limits: LimitsBody | None = None

    def terms(self) -> delegating.Terms:
        """As the use-case has it."""
        limits = FREE if self.limits is None else self.limits.limits()
        return delegating.Terms(self.role, self.first_day, self.last_day, self.passes_on, limits)


class NewDelegation(TermsBody):
    """Who shall run which accounts."""

    email: str = Field(max_length=254)
    name: str = Field(max_length=200)
    accounts: list[Annotated[str, Field(max_length=64)]] = Field(min_length=1, max_length=delegating.MOST_BRANCHES)
    people_of: str | None = Field(
        default=None, max_length=64, description="the code of a group of the account: its people alone, no figures"
    )


class DelegationBody(TermsBody):
    """Who runs an account; ``own`` = the one the asker acts through."""

    id: int
    email: str
    name: str
    account: str
    account_name: str
    kind: str
    depth: int
    role_name: str
    own: bool
    people_of: str | None
    """A group whose people alone they run; null = the whole branch."""
    keys: int
    """How many keys for programs it has."""


class RoleBody(BaseModel):
    """A role; ``givable``: it has nothing the asker's own lacks. ``id`` null = ready-made."""

    key: str
    id: int | None
    name: str
    about: str
    account: str | None
    permissions: list[str]
    givable: bool
    held: int
    """How many have it."""


class GapBody(BaseModel):
    """A client or reseller that nobody runs."""

    account: str
    name: str
    admin_email: str | None


class PermissionBody(BaseModel):
    """A permission, and what it lets one do."""

    key: str
    words: str


class SecondFactorRule(BaseModel):
    """An account that, with its branch, nobody runs without a second factor; ``role`` null = whatever their role."""

    account: str = Field(max_length=64)
    role: str | None = Field(max_length=32)


class SecondFactorWanted(SecondFactorRule):
    """Whether it shall be so."""

    required: bool


class DelegationsBody(BaseModel):
    """Who runs what in a branch, what nobody runs, and what can be given."""

    today: date
    delegations: list[DelegationBody]
    gaps: list[GapBody]
    gap_count: int
    roles: list[RoleBody]
    permissions: list[PermissionBody]
    count: int
    """How many delegations there are in all."""
    ending: int
    """How many of them end within a fortnight."""
    may_give: bool
    second_factor: list[SecondFactorRule]


class DelegationIds(BaseModel):
    """The numbers of delegations."""

    ids: list[int]


class CouldBody(BaseModel):
    """Who could do what in an account at some time of a day."""

    email: str
    name: str
    account: str
    account_name: str
    role_name: str
    permissions: list[str]
    passes_on: bool


class AnswerBody(BaseModel):
    """Whether somebody may do something, and why."""

    permission: str
    words: str
    may: bool
    why: str


class NewRole(BaseModel):
    """A role of one's own."""

    name: str = Field(max_length=100)
    permissions: list[str] = Field(max_length=len(PERMISSIONS))


class RoleId(BaseModel):
    """A role's number."""

    id: int


@routes.get("", response_model=DelegationsBody)
def overview(db: Db, who: Who, find: Annotated[str, Query(max_length=100)] = "") -> Any:
    """Who runs what in one's branch and until when (the first of those with these words), what nobody runs, and the
    roles there are."""
    found = db.snapshot(delegating.overview, who, find)
    return DelegationsBody(
        today=found.today,
        delegations=[_delegation(each, who.delegation_id, found.keys.get(each.id, 0)) for each in found.rows],
        gaps=[GapBody(**vars(each)) for each in found.gaps],
        gap_count=found.gap_count,
        roles=[
            RoleBody(
                **{**vars(each), "permissions": sorted(each.permissions)}, held=found.standing.by_role.get(each.key, 0)
            )
            for each in found.roles
        ],
        permissions=[PermissionBody(key=key, words=words) for key, words in PERMISSIONS.items()],
        count=found.standing.count,
        ending=found.standing.ending,
        may_give=found.passes_on and "delegations.give" in who.permissions,
        second_factor=[
            SecondFactorRule(account=each.code, role=each.role or None) for each in found.second_factor_rules
        ],
    )


def _delegation(row: GivenDelegation, own: int | None, keys: int) -> DelegationBody:
    return DelegationBody(
        id=row.id,
        email=row.email,
        name=row.name,
        account=row.code,
        account_name=row.account_name,
        kind=row.kind,
        depth=len(row.path) // 6,
        role=str(row.role_id) if row.role_id is not None else row.role,
        role_name=role_name(row),
        first_day=row.first_day,
        last_day=row.last_day,
        passes_on=row.passes_on,
        limits=None if row.limits is None else limits_body(limits_of(row.limits)),
        own=row.id == own,
        people_of=row.people_of,
        keys=keys,
    )


@routes.get("/past", response_model=list[CouldBody])
def past(db: Db, who: Who, day: Day) -> Any:
    """Who could do what in one's branch on a day."""
    found = db.snapshot(history.on_day, who, day)
    return [CouldBody(**{**vars(each), "permissions": sorted(each.permissions)}) for each in found]


@routes.post("", response_model=DelegationIds, status_code=201)
def give(body: NewDelegation, db: Db, who: Who) -> Any:
    """Let somebody run accounts of one's branch; they are told by mail."""
    terms = body.terms()
    wanted = delegating.Wanted(
        body.email,
        body.name,
        "",
        terms.role,
        terms.first_day,
        terms.last_day,
        terms.passes_on,
        terms.limits,
        body.people_of,
    )
    return DelegationIds(ids=db.run(delegating.give_all, who, wanted, body.accounts))


@routes.put("/second-factor", status_code=204)
def require_second_factor(body: SecondFactorWanted, db: Db, who: Who) -> None:
    """Have an account and its branch run only with a second factor, or no more."""
    db.run(delegating.require_second_factor, who, body.account, body.role, body.required)


@routes.put("/{delegation_id}", status_code=204)
def change(delegation_id: int, body: TermsBody, db: Db, who: Who) -> None:
    """Another role, other days, or another right to pass it on."""
    db.run(delegating.change, who, delegation_id, body.terms())


@routes.post("/{delegation_id}/end", status_code=204)
def end(delegation_id: int, db: Db, who: Who) -> None:
    """Somebody runs an account no more; their sessions end at once."""
    db.run(delegating.end, who, delegation_id)


@routes.post("/{delegation_id}/keys/end", status_code=204)
def end_keys(delegation_id: int, db: Db, who: Who) -> None:
    """Every key of a delegation works no more."""
    db.run(delegating.end_keys, who, delegation_id)


@routes.post("/{delegation_id}/tell", status_code=204)
def resend(delegation_id: int, db: Db, who: Who) -> None:
    """Tell somebody again by mail, with a new link where they have no password yet."""
    db.run(delegating.resend, who, delegation_id)


@routes.get("/{delegation_id}/can", response_model=list[AnswerBody])
def can(delegation_id: int, db: Db, who: Who) -> Any:
    """What somebody may do by a delegation, each with the reason."""
    found = db.snapshot(delegating.can, who, delegation_id)
    return [
        AnswerBody(permission=each.permission, words=PERMISSIONS[each.permission], may=each.may, why=each.why)
        for each in found
    ]


@routes.post("/roles", response_model=RoleId, status_code=201)
def compose(body: NewRole, db: Db, who: Who) -> Any:
    """Compose a role."""
    return RoleId(id=db.run(roles.put, who, None, body.name, body.permissions))


@routes.put("/roles/{role_id}", status_code=204)
def recompose(role_id: int, body: NewRole, db: Db, who: Who) -> None:
    """Change a composed role, for everybody who has it."""
    db.run(roles.put, who, role_id, body.name, body.permissions)


@routes.delete("/roles/{role_id}", status_code=204)
def drop(role_id: int, db: Db, who: Who) -> None:
    """Take a composed role away."""
    db.run(roles.drop, who, role_id)
