"""Letting others run a branch: who runs what, with which role and until when; never more than one has oneself.

Whoever changes what an account's delegations are locks those it has, by their keys, and judges under the locks whether
one is left that runs it.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from datetime import date, timedelta
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import AccountFacts, Accounts
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import service as people_service
from fair_ladle.app.plumbing.actor import FOR_PEOPLE, Actor
from fair_ladle.app.plumbing.addresses import email as an_email
from fair_ladle.app.plumbing.addresses import name as a_name
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.days import YEARS
from fair_ladle.app.plumbing.limits import FREE, NO_CEILING, Limits, limits_of
from fair_ladle.app.plumbing.permissions import PERMISSIONS
from fair_ladle.app.plumbing.problems import conflict, invalid, not_allowed, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.sign_in import delegation_store, history, key_store, links, roles, second_store, store
from fair_ladle.app.sign_in.delegation_store import Standing
from fair_ladle.app.sign_in.roles import RoleFacts
from fair_ladle.app.sign_in.rows import DelegationRecord, GivenDelegation, StandingDelegation
from fair_ladle.app.sign_in.service import permissions_of, role_name
from fair_ladle.app.sign_in.tables import delegations as table
from fair_ladle.app.sign_in.tables import second_factor_rules
from fair_ladle.core.calendar import day_name
from fair_ladle.core.quantities import MOST_GRAINS

MOST_GAPS, MOST_BRANCHES, MOST_ROWS, MOST_WORDS = 100, 50, 500, 5
SOON = timedelta(days=14)
"""What ends within so many days ends soon."""


@dataclass(frozen=True)
class Gap:
    """A client or reseller that nobody runs, with the address its intake or draft gave for an admin."""

    account: str
    name: str
    admin_email: str | None


@dataclass(frozen=True)
class Overview:
    """Who runs what in a branch (the first of what is looked for), what nobody runs, and which roles there are."""

    rows: list[GivenDelegation]
    gaps: list[Gap]
    gap_count: int
    roles: list[RoleFacts]
    passes_on: bool
    today: date
    keys: dict[int, int]
    standing: Standing
    second_factor_rules: list[Any]


@dataclass(frozen=True)
class Wanted:
    """A delegation to give: ``role`` is a ready-made one's key, or a composed one's number as text."""

    email: str
    name: str
    account: str
    role: str
    first_day: date | None = None
    last_day: date | None = None
    passes_on: bool = False
    limits: Limits = FREE
    people_of: str | None = None


@dataclass(frozen=True)
class Terms:
    """What of a delegation can be changed."""

    role: str
    first_day: date | None
    last_day: date | None
    passes_on: bool
    limits: Limits = FREE


def overview(tx: Transaction, actor: Actor, words: str = "") -> Overview:
    """Who runs what in the actor's branch, or those of them who have all of these words."""
    accounts, day = accounts_service.known(tx), accounts_service.today(tx)
    top = accounts_service.top_row(accounts, actor)
    inside = accounts_service.in_branch(accounts, top, table.c.account_id)
    rows = delegation_store.given_in(tx.connection, inside, None, words.split()[:MOST_WORDS], MOST_ROWS)
    own = _own(tx, actor)
    run = delegation_store.accounts_run(tx.connection, inside, day)
    gaps = [
        accounts.facts[row]
        for row in accounts.tree.branch(top).tolist()
        if accounts.facts[row].kind in ("reseller", "client")
        and not accounts.closed[row]
        and int(accounts.ids[row]) not in run
    ]
    return Overview(
        rows,
        [Gap(each.code, each.name, each.admin_email) for each in gaps[:MOST_GAPS]],
        len(gaps),
        roles.in_sight(tx, actor, accounts),
        own is None or bool(own.passes_on),
        day,
        key_store.keys_working(tx.connection, [each.id for each in rows], tx.now),
        delegation_store.standing_in(tx.connection, inside, day, day + SOON),
        second_store.second_factor_rules_in(
            tx.connection, accounts_service.in_branch(accounts, top, second_factor_rules.c.account_id)
        ),
    )


def _own(tx: Transaction, actor: Actor) -> Any | None:
    """The delegation through which the actor acts; None for the command line and what happens by itself."""
    if actor.delegation_id is None:
        return None
    accounts = accounts_service.known(tx)
    inside = accounts_service.in_branch(accounts, accounts_service.top_row(accounts, actor), table.c.account_id)
    found = delegation_store.given_in(tx.connection, inside, actor.delegation_id)
    if not found:
        raise not_allowed("Your delegation has ended.")
    return found[0]


def _may_give(tx: Transaction, actor: Actor, account: str, role: RoleFacts, terms: Terms) -> None:
    """Refused where a delegation would be wider than the actor's own, or its days make no sense."""
    today, own = accounts_service.today(tx), _own(tx, actor)
    if own is not None and not own.passes_on:
        raise not_allowed("Your delegation may not be passed on.")
    lacks = sorted(role.permissions - actor.permissions)
    if lacks:
        said = "; ".join(PERMISSIONS[each] for each in lacks[:3])
        raise not_allowed(f"{role.name} may do what your own role does not let you: {said}.")
    mine = FREE if own is None else _within(accounts_service.known(tx), actor, account, limits_of(own.limits))
    if mine.roles is not None and role.key not in mine.roles:
        raise not_allowed(f"Your delegation does not let you give the role {role.name}.")
    beyond = terms.limits.beyond(mine)
    if beyond:
        raise not_allowed(f"Your own delegation does not go that far: {'; '.join(beyond[:3])}.")
    judge_limits(tx, actor, terms.limits, account)
    for name, day in (("first_day", terms.first_day), ("last_day", terms.last_day)):
        if day is not None and not YEARS[0] <= day.year <= YEARS[1]:
            raise invalid(f"{day}: a day between {YEARS[0]} and {YEARS[1]}.", name)
    if terms.last_day is not None and terms.last_day < max(today, terms.first_day or today):
        raise invalid("The last day is not before the first, nor before today.", "last_day")
    if own is not None and own.last_day is not None and (terms.last_day is None or terms.last_day > own.last_day):
        raise not_allowed(f"Your own delegation ends on {day_name(own.last_day)}; give one that ends then or before.")


def _within(accounts: Accounts, actor: Actor, account: str, limits: Limits) -> Limits:
    """Limits as they are for an account's branch: ceilings of pools that stand in it, while those of pools above, from
    which it takes, hold for each that none is said of."""
    top, tree = accounts_service.row_in_scope(accounts, actor, account), accounts.tree
    here, ceilings = {}, dict(limits.ceilings)
    above = set(tree.path_up(top)[1:])
    for (owner, product), each in limits.pools.items():
        row = tree.row(owner) if owner in tree else -1
        if row in above:
            ceilings[product] = each.least(ceilings.get(product, NO_CEILING))
        elif row >= 0 and top in tree.path_up(row):
            here[owner, product] = each
    return replace(limits, ceilings=ceilings, pools=here)


def judge_limits(tx: Transaction, actor: Actor, limits: Limits, account: str | None) -> None:
    """Refused where limits name what is not there, or not in the branch of the account (its code, None = the
    installation) that is run, or say nothing that can be."""
    products, accounts = {each.code: each for each in pools_service.products(tx)}, accounts_service.known(tx)
    bounded = limits.ceilings.keys() | {code for _, code in limits.pools}
    for code in sorted((limits.products or frozenset()) | bounded):
        if code not in products:
            raise not_found("product", code)
    for owner, code in sorted(limits.pools):
        product = products[code]
        row = accounts_service.row_in_scope(accounts, replace(actor, scope=account), owner)
        if not pools_service.pools_of(tx, [product], [int(accounts.ids[row])]):
            raise invalid(f"{accounts.name(row)} has no pool of {product.name}.", "limits")
    for code, each in (*limits.ceilings.items(), *((code, each) for (_, code), each in limits.pools.items())):
        if any(most is not None and not 0 <= most <= MOST_GRAINS for most in (each.in_all, each.at_once)):
            raise invalid(f"A ceiling of {code} is 0 or more.", "limits")
    roles_here = {each.key for each in roles.in_sight(tx, actor, accounts)}
    for key in sorted((limits.roles or frozenset()) - roles_here):
        raise invalid(f"There is no role {key[:80]!r} here.", "limits")
    for name in sorted(limits.groups or frozenset()):
        account, _, code = name.partition("/")
        row = accounts_service.row_in_scope(accounts, actor, account)
        if not people_service.has_group(tx, int(accounts.ids[row]), code):
            raise not_found("group", name)


def give_all(tx: Transaction, actor: Actor, wanted: Wanted, accounts: Sequence[str]) -> list[int]:
    """Let somebody run several accounts of the branch alike; they are told once. Locks: what each account's delegations
    are, account by account in the order of their codes."""
    if not 1 <= len(set(accounts)) <= MOST_BRANCHES:
        raise invalid(f"From 1 to {MOST_BRANCHES} accounts at once.", "accounts")
    codes, names = sorted(set(accounts)), accounts_service.known(tx)
    parts = {code: _within(names, actor, code, wanted.limits) for code in codes}
    for owner, product in sorted(wanted.limits.pools.keys() - {pool for each in parts.values() for pool in each.pools}):
        raise invalid(f"{owner[:80]} is not in what is delegated: no ceiling of its {product[:80]}.", "limits")
    given = [give(tx, actor, replace(wanted, account=each, limits=parts[each]), tells=False) for each in codes]
    said = [names.name(names.tree.row(each)) for each in codes]
    found = store.by_email(tx.connection, wanted.email.strip().lower())
    assert found is not None
    links.invite_to_run(tx, actor.name, found, said[0] if len(said) == 1 else f"{said[0]} and {len(said) - 1} more")
    return given


def give(tx: Transaction, actor: Actor, wanted: Wanted, tells: bool = True) -> int:
    """Let somebody run an account of the branch, and tell them by mail, with a link to set a password where they have
    none; the delegation's number. Whether the address signs in anywhere already is told to nobody."""
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, wanted.account)
    account_id = int(accounts.ids[row])
    if accounts.status(row) == "closed":
        raise conflict(f"{accounts.name(row)} is closed and cannot be delegated.")
    role = roles.named(tx, actor, accounts, wanted.role)
    email, name = an_email(wanted.email, "email"), a_name(wanted.name, "name")
    if email is None:
        raise invalid("Who runs an account needs an e-mail address.", "email")
    if actor.delegation_id is not None and email == actor.email.lower():
        raise not_allowed("You cannot create a delegation for yourself. Ask the person who gave you yours.")
    passes_on = wanted.passes_on and wanted.people_of is None
    terms = Terms(wanted.role, wanted.first_day, wanted.last_day, passes_on, wanted.limits)
    _may_give(tx, actor, accounts.tree.codes[row], role, terms)
    group = None if wanted.people_of is None else _people_of(tx, accounts, row, wanted.people_of, role)
    there = delegation_store.lock_delegations(tx.connection, account_id)
    found = store.by_email(tx.connection, email)
    if found is None:
        store.add(tx.connection, email, name, "")
        found = store.by_email(tx.connection, email)
    assert found is not None
    if actor.delegation_id is not None and found.id in delegation_store.givers(tx.connection, actor.delegation_id):
        raise not_allowed(f"{email} is not available here.")  # they gave it, or gave it to who did
    today = accounts_service.today(tx)
    if any(each.sign_in_id == found.id and (each.last_day is None or each.last_day >= today) for each in there):
        raise conflict(f"{email} runs {accounts.name(row)} already; change that delegation.")
    given = delegation_store.delegate(
        tx.connection,
        found.id,
        account_id,
        "own" if role.id is not None else role.key,
        role_id=role.id,
        first_day=wanted.first_day,
        last_day=wanted.last_day,
        passes_on=passes_on,
        people_of=group,
        name=name,
        limits=wanted.limits.kept(),
        given_through=actor.delegation_id,
    )
    history.remember(tx, [given])
    if tells:
        links.invite_to_run(tx, actor.name, found, accounts.name(row))
    usual = _said("", Terms("", None, None, False))
    said = {"people of": group} if group else {}
    said |= {name: each for name, each in _said(role.name, terms).items() if each != usual[name]}
    log_service.write(
        tx, actor, None, [log_service.Entry("delegation created", email, account_id, None, {"name": name} | said)]
    )
    return given


def _people_of(tx: Transaction, accounts: Accounts, row: int, code: str, role: RoleFacts) -> str:
    """A group of an account whose people somebody shall run, by the account's code and its own; refused where there is
    none, or where the role has nothing to do with people."""
    account = accounts.tree.codes[row]
    if not people_service.has_group(tx, int(accounts.ids[row]), code):
        raise not_found("group", f"{account}/{code}"[:80])
    if "people.see" not in role.permissions:
        raise invalid(f"{role.name} has nothing to do with people.", "role")
    return f"{account}/{code}"


def _said(role: str, terms: Terms) -> dict[str, Any]:
    kept = terms.limits.kept() or {}
    limits = {f"may give {name}": kept.get(name) for name in ("products", "ceilings", "pools", "groups", "roles")}
    return {
        "role": role,
        "first day": terms.first_day,
        "last day": terms.last_day,
        "may pass it on": terms.passes_on,
        **{name: "any" if not each else str(each) for name, each in limits.items()},
        "may change caps": terms.limits.caps,
        "may change prices": terms.limits.prices,
        "may change rules": terms.limits.rules,
    }


def as_role(tx: Transaction, actor: Actor, account: str, role: str) -> Actor:
    """The actor as somebody would be who had a role in an account of theirs: to look at the product before giving it.
    Refused where they could not give it."""
    if "delegations.give" not in actor.permissions:
        raise not_allowed("Your role here does not let you have others run an account.")
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, account)
    found = roles.named(tx, actor, accounts, role)
    if not found.givable:
        raise not_allowed(f"{found.name} may do what your own role does not let you.")
    return replace(
        actor, scope=accounts.tree.codes[row], role=found.key, permissions=found.permissions, only_looks=found.name
    )


def account_run(tx: Transaction, actor: Actor) -> AccountFacts:
    """The account at the top of what the actor runs."""
    accounts = accounts_service.known(tx)
    return accounts.facts[accounts_service.top_row(accounts, actor)]


def let_run(tx: Transaction, actor: Actor, email: str, name: str, account_id: int, role: str) -> None:
    """Let somebody who is being added to an account run it in a role; nothing where they do already. An admin may pass
    it on."""
    accounts = accounts_service.known(tx)
    found = store.by_email(tx.connection, email.strip().lower())
    there = (
        [] if found is None else delegation_store.delegations_of(tx.connection, found.id, accounts_service.today(tx))
    )
    if not any(each.account_id == account_id for each in there):
        if "delegations.give" not in actor.permissions:
            raise not_allowed("Your role here does not let you have others run an account.")
        code = accounts.tree.codes[accounts.row_of_id[account_id]]
        own = _own(tx, actor)
        last_day = None if own is None else own.last_day
        limits = _within(accounts, actor, code, actor.limits)
        give(tx, actor, Wanted(email, name, code, role, None, last_day, role == "admin", limits))


def _found(tx: Transaction, actor: Actor, delegation_id: int) -> tuple[Accounts, Any]:
    accounts = accounts_service.known(tx)
    inside = accounts_service.in_branch(accounts, accounts_service.top_row(accounts, actor), table.c.account_id)
    found = delegation_store.given_in(tx.connection, inside, delegation_id)
    if not found:
        raise not_found("delegation", str(delegation_id))
    return accounts, found[0]


def _may_touch(tx: Transaction, actor: Actor, row: DelegationRecord) -> None:
    """Refused where somebody else's delegation has more than the actor's own, or it is the actor's own."""
    if row.id == actor.delegation_id:
        raise conflict("You are working through this delegation; another admin has to change it.")
    accounts = accounts_service.known(tx)
    mine = _within(accounts, actor, accounts.tree.codes[accounts.row_of_id[row.account_id]], actor.limits)
    wider = not permissions_of(tx, row) <= actor.permissions or limits_of(row.limits).beyond(mine)
    if actor.delegation_id is not None and wider:
        raise not_allowed(
            "This delegation has more permissions than yours; a person with at least as many has to change it."
        )


def _others_run_it(tx: Transaction, actor: Actor, accounts: Accounts, row: GivenDelegation) -> None:
    """Refused where nobody would be left who runs an account fully, and the actor does not run it from above."""
    if accounts.tree.codes[accounts_service.top_row(accounts, actor)] != row.code or actor.delegation_id is None:
        return
    left = [
        each
        for each in delegation_store.lock_delegations(tx.connection, row.account_id)
        if each.id != row.id
        and each.role == "admin"
        and each.people_of is None
        and each.first_day is None
        and each.last_day is None
    ]
    if not left:
        raise conflict(f"{row.account_name} has no other permanent admin. Add one first.")


def change(tx: Transaction, actor: Actor, delegation_id: int, terms: Terms) -> None:
    """Another role, other days, or another right to pass it on, from the next request of theirs on."""
    accounts, row = _found(tx, actor, delegation_id)
    delegation_store.lock_delegations(tx.connection, row.account_id)
    accounts, row = _found(tx, actor, delegation_id)
    _may_touch(tx, actor, row)
    role = roles.named(tx, actor, accounts, terms.role)
    _may_give(tx, actor, accounts.tree.codes[accounts.row_of_id[row.account_id]], role, terms)
    if row.role == "admin" and (role.key != "admin" or terms.last_day is not None or terms.first_day is not None):
        _others_run_it(tx, actor, accounts, row)
    delegation_store.change_delegation(
        tx.connection,
        row.id,
        {
            "role": "own" if role.id is not None else role.key,
            "role_id": role.id,
            "first_day": terms.first_day,
            "last_day": terms.last_day,
            "passes_on": terms.passes_on,
            "limits": terms.limits.kept(),
        },
    )
    history.remember(tx, [row.id])
    was = Terms(row.role, row.first_day, row.last_day, row.passes_on, limits_of(row.limits))
    before, after = _said(role_name(row), was), _said(role.name, terms)
    differs = [each for each in after if before[each] != after[each]]
    if differs:
        told = {each: before[each] for each in differs}, {each: after[each] for each in differs}
        log_service.write(tx, actor, None, [log_service.Entry("delegation changed", row.email, row.account_id, *told)])


def end(tx: Transaction, actor: Actor, delegation_id: int) -> None:
    """Somebody runs an account no more, from now on; their sessions end."""
    _, row = _found(tx, actor, delegation_id)
    delegation_store.lock_delegations(tx.connection, row.account_id)
    accounts, row = _found(tx, actor, delegation_id)
    _may_touch(tx, actor, row)
    _others_run_it(tx, actor, accounts, row)
    _end(tx, actor, [row])


def resend(tx: Transaction, actor: Actor, delegation_id: int) -> None:
    """Tell somebody again that they run an account, with a new link where they have no password yet."""
    accounts, row = _found(tx, actor, delegation_id)
    found = store.by_id(tx.connection, row.sign_in_id)
    assert found is not None
    links.invite_to_run(tx, actor.name, found, row.account_name)
    log_service.write(tx, actor, None, [log_service.Entry("delegation notified again", row.email, row.account_id)])


def end_delegation(tx: Transaction, actor: Actor, email: str, account: str) -> None:
    """Somebody, by their address, runs an account of the actor's branch no more; their sessions end at once."""
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, account)
    there = delegation_store.standing(tx.connection, [email.strip().lower()])
    mine = [each for each in there if each.account_id == int(accounts.ids[row])]
    if not mine:
        raise not_found("delegation", email)
    for each in mine:
        end(tx, actor, each.id)


def end_of(tx: Transaction, actor: Actor, emails: Collection[str]) -> int:
    """Whoever has one of these addresses runs nothing of the actor's branch any more, from now on, and their
    sessions end; how many delegations that were."""
    accounts = accounts_service.known(tx)
    rows = delegation_store.standing(tx.connection, {each.lower() for each in emails}) if emails else []
    mine = [each for each in rows if accounts_service.sees(accounts, actor, each.account_id)]
    for each in mine if actor.delegation_id is not None else []:
        if not permissions_of(tx, each) <= actor.permissions or limits_of(each.limits).beyond(actor.limits):
            raise not_allowed(f"{each.email} runs an account with more than your own role; ask who has as much.")
    _end(tx, actor, mine)
    return len(mine)


def _end(tx: Transaction, actor: Actor, rows: Sequence[StandingDelegation | GivenDelegation]) -> None:
    delegation_store.end_delegations(tx.connection, [each.id for each in rows], tx.now, actor.name)
    store.end_sessions(tx.connection, {each.sign_in_id for each in rows})
    log_service.write(
        tx,
        actor,
        None,
        [log_service.Entry("delegation ended", each.email, each.account_id, {"role": each.role}) for each in rows],
    )


def end_keys(tx: Transaction, actor: Actor, delegation_id: int) -> int:
    """Every key of a delegation works no more; how many those were."""
    _, row = _found(tx, actor, delegation_id)
    if row.id != actor.delegation_id:
        _may_touch(tx, actor, row)
    ended = key_store.end_keys(tx.connection, row.id, tx.now)
    entry = log_service.Entry("keys ended", row.email, row.account_id, None, {"keys": ended})
    log_service.write(tx, actor, None, [entry] if ended else [])
    return ended


def require_second_factor(tx: Transaction, actor: Actor, account: str, role: str | None, required: bool) -> None:
    """Have an account, and with it its branch, run only with a second factor, by whoever has a role (None = whoever
    runs it); or require it no more. Who lacks one can do nothing but set it up."""
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, account)
    name = "every role" if role is None else roles.named(tx, actor, accounts, role).name
    account_id = int(accounts.ids[row])
    if second_store.put_second_factor_rule(tx.connection, account_id, role or "", required):
        what = "second factor required" if required else "second factor not required"
        log_service.write(tx, actor, None, [log_service.Entry(what, name, account_id)])


@dataclass(frozen=True)
class Answer:
    """Whether somebody may do something, and why."""

    permission: str
    may: bool
    why: str


def can(tx: Transaction, actor: Actor, delegation_id: int) -> list[Answer]:
    """What somebody may do in an account by a delegation, each with the reason."""
    _, row = _found(tx, actor, delegation_id)
    has, today, role = permissions_of(tx, row), accounts_service.today(tx), role_name(row)
    if row.people_of is not None:
        has, role = has & FOR_PEOPLE, f"{role}, for the people of a group alone,"
    when = None
    if row.first_day is not None and row.first_day > today:
        when = f"From {day_name(row.first_day)} on"
    elif row.last_day is not None and row.last_day < today:
        when = f"Their last day was {day_name(row.last_day)}"
    return [
        Answer(
            each,
            each in has and when is None,
            f"{role} does not have it" if each not in has else when or f"{role} has it",
        )
        for each in PERMISSIONS
    ]
