"""Looking after groups: making and changing them, and who would be in one before it is kept."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.entitlements import reconciling
from fair_ladle.app.entitlements import service as entitlements_service
from fair_ladle.app.entitlements.reconciling import ReconcileResult
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people.groups import PRESENT, Group, Groups, of_row, with_members
from fair_ladle.app.people.rows import ListedPerson
from fair_ladle.app.people.tables import people
from fair_ladle.app.people_admin import store
from fair_ladle.app.people_admin.listing import group_named, groups_in_sight
from fair_ladle.app.personal_storage import usecases as personal_storage
from fair_ladle.app.plumbing.actor import Actor, may_change_group
from fair_ladle.app.plumbing.database import Transaction, batched
from fair_ladle.app.plumbing.problems import conflict, invalid, not_found

CODE = re.compile(r"^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$")
SHOWN = 200


@dataclass(frozen=True)
class GroupRow:
    """A group of the branch, with how many people are in it and which groups stand in it."""

    group: Group
    account: str
    account_name: str
    count: int
    inside: list[str]
    named: dict[str, str] = field(default_factory=dict)
    """What the first members by hand are called, as they are written; of one group alone."""


@dataclass(frozen=True)
class GroupPage:
    """A part of the groups, and how many there are."""

    total: int
    rows: list[GroupRow]


@dataclass(frozen=True)
class GroupTerms:
    """A group as it shall be."""

    account: str
    code: str
    name: str
    rule: str | None
    members: tuple[str, ...]
    precedence: int | None


@dataclass(frozen=True)
class GroupPreview:
    """Who would be in a group, and who would come to it or leave it: a part of each, by name, and how many in all."""

    count: int
    people: list[ListedPerson]
    come: list[Any]
    come_count: int
    leave: list[Any]
    leave_count: int
    gives: bool
    """Whether it, or a group it stands in, gives a product: then seats follow."""


def ordered(tx: Transaction, actor: Actor, words: str = "") -> tuple[Groups, list[Group]]:
    """The groups of the branch whose name, code or account has all these words, account by account, by precedence."""
    accounts = accounts_service.known(tx)
    every = groups_in_sight(tx, actor, accounts)
    wanted = words.casefold().split()
    place = accounts.tree.depth_first

    def said(each: Group) -> str:
        row = every.row(each)
        return f"{each.name} {each.code} {accounts.tree.codes[row]} {accounts.name(row)}".casefold()

    return every, sorted(
        (each for each in every.every if not wanted or all(word in said(each) for word in wanted)),
        key=lambda each: (int(place[every.row(each)]), each.precedence is None, each.precedence or 0, each.name),
    )


def groups(tx: Transaction, actor: Actor, words: str = "", offset: int = 0, limit: int = 100) -> GroupPage:
    """A part of the groups of the branch, with how many are in each."""
    every, found = ordered(tx, actor, words)
    return GroupPage(len(found), _rows(tx, every, found[offset : offset + limit]))


def every_group(tx: Transaction, actor: Actor, words: str = "") -> Iterator[list[GroupRow]]:
    """All groups of the branch with these words, a part at a time, with how many are in each."""
    every, found = ordered(tx, actor, words)
    for part in batched(found, SHOWN):
        yield _rows(tx, every, part)


def group(tx: Transaction, actor: Actor, name: str) -> GroupRow:
    """One group of the branch, with the names of its first members by hand."""
    accounts = accounts_service.known(tx)
    every, found = groups_in_sight(tx, actor, accounts), group_named(tx, actor, accounts, name)
    first = found.members[:SHOWN]
    inside = {each: part.name for each in first if (part := every.named(each, found)) is not None}
    known = people_service.by_username(tx, [each for each in first if each not in inside])
    tree, top = accounts.tree, every.row(found)
    named = {
        each: person.display_name
        for each, person in known.items()
        if tree.is_inside(accounts.row_of_id[person.account_id], top)
    }
    return replace(_rows(tx, every, [found])[0], named=named | inside)


def _rows(tx: Transaction, every: Groups, shown: Sequence[Group]) -> list[GroupRow]:
    counts = store.counts_of(tx.connection, [every.members(each) for each in shown])
    accounts = every.accounts
    return [
        GroupRow(
            each,
            accounts.tree.codes[every.row(each)],
            accounts.name(every.row(each)),
            count,
            [part.name for part in every.parts(each)[1]],
        )
        for each, count in zip(shown, counts, strict=True)
    ]


def _as_group(
    tx: Transaction, actor: Actor, accounts: accounts_service.Accounts, wanted: GroupTerms
) -> tuple[Groups, Group, Group | None]:
    """All groups, the group as it shall be, and as it is (None = not yet)."""
    row = accounts_service.row_in_scope(accounts, actor, wanted.account)
    account_id = int(accounts.ids[row])
    every = groups_in_sight(tx, actor, accounts)
    there = next((each for each in every.every if each.account_id == account_id and each.code == wanted.code), None)
    if not CODE.fullmatch(wanted.code):
        raise invalid("A group's code is letters, digits, . _ and -, at most 64.", "code")
    if not wanted.name.strip():
        raise invalid("A group has a name.", "name")
    if any(";" in each or not each.strip() for each in wanted.members):
        raise invalid("Members are usernames and codes of groups, without semicolons.", "members")
    group = Group(
        there.id if there else -1,
        account_id,
        wanted.code,
        wanted.name.strip(),
        (wanted.rule or "").strip() or None,
        tuple(dict.fromkeys(wanted.members)),
        wanted.precedence,
        there.source if there else "here",
    )
    every.check(group)
    return every, group, there


def preview(tx: Transaction, actor: Actor, wanted: GroupTerms) -> GroupPreview:
    """Who would be in a group as it shall be, and what that changes; nothing is kept."""
    accounts = accounts_service.known(tx)
    every, group, there = _as_group(tx, actor, accounts, wanted)
    now = Groups(accounts, [group, *(each for each in every.every if each.id != group.id)]).reaches(group)
    before = sa.false() if there is None else every.reaches(there)
    order = [people.c.display_name, people.c.id]

    ways = [now, sa.and_(now, sa.not_(before)), sa.and_(before, sa.not_(now))]
    counts = store.came_and_left(tx.connection, PRESENT, now, before)
    shown, come, leave = (
        store.page(tx.connection, [PRESENT, way], order, 0, SHOWN, count)[1]
        for way, count in zip(ways, counts, strict=True)
    )
    around = (
        []
        if there is None
        else [each for each in every.every if any(part.id == there.id for part in every.inside(each))]
    )
    return GroupPreview(
        counts[0],
        shown,
        come,
        counts[1],
        leave,
        counts[2],
        any(entitlements_service.products_of_group(tx, each) for each in around),
    )


def put(tx: Transaction, actor: Actor, wanted: GroupTerms) -> ReconcileResult:
    """Make a group, or change the one of that code; what it gives follows at once."""
    people_service.rehearse_groups(tx)
    accounts = accounts_service.known(tx)
    every, group, there = _as_group(tx, actor, accounts, wanted)
    if there is not None and there.source != "here":
        raise conflict(f"{there.name} is kept by {there.source}; change it there.")
    may_change_group(actor, wanted.account, wanted.code)
    known = people_service.by_username(tx, group.members)
    for member in group.members:
        person = known.get(member)
        if every.named(member, group) is None and (
            person is None or not accounts.tree.is_inside(accounts.row_of_id[person.account_id], every.row(group))
        ):
            raise invalid(f"{member} is not a person of {accounts.name(every.row(group))}, nor a group.", "members")
    values = {
        "account_id": group.account_id,
        "code": group.code,
        "name": group.name,
        "rule": group.rule,
        "precedence": group.precedence,
    }
    people_service.put_group(tx, there.id if there else None, values, group.members)
    after = {
        "name": group.name,
        "rule": group.rule or "none",
        "members by hand": len(group.members),
        "precedence": group.precedence,
    }
    was = (
        None
        if there is None
        else {
            "name": there.name,
            "rule": there.rule or "none",
            "members by hand": len(there.members),
            "precedence": there.precedence,
        }
    )
    changed = [name for name in after if was is None or was[name] != after[name]]
    log_service.write(
        tx,
        actor,
        None,
        [
            log_service.Entry(
                "group changed" if there else "group made",
                group.code,
                group.account_id,
                {name: was[name] for name in changed} if was else None,
                {name: after[name] for name in changed},
            )
        ],
    )
    around = (
        []
        if there is None
        else [each for each in every.every if any(part.id == there.id for part in every.inside(each))]
    )
    result = reconciling.reconcile_groups(tx, around)
    assignments.judge_layers(tx, actor, result.granted)
    return result


def members(tx: Transaction, actor: Actor, name: str, add: Sequence[str], take: Sequence[str]) -> int:
    """Put people into a group by hand, or take them out; how many of them changed."""
    accounts = accounts_service.known(tx)
    seen = group_named(tx, actor, accounts, name)
    locked = people_service.lock_group(tx, seen.id)
    if locked is None:
        raise not_found("group", name)
    group = of_row(*locked)
    if group.source != "here":
        raise conflict(f"{group.name} is kept by {group.source}; change it there.")
    other = with_members(group, list(add), list(take))
    wanted = GroupTerms(
        accounts.tree.codes[accounts.row_of_id[group.account_id]],
        group.code,
        group.name,
        group.rule,
        other.members,
        group.precedence,
    )
    put(tx, actor, wanted)
    return len(set(other.members) ^ set(group.members))


def forget(tx: Transaction, actor: Actor, name: str) -> None:
    """Delete a group that stands in no other."""
    accounts = accounts_service.known(tx)
    group = group_named(tx, actor, accounts, name)
    every = Groups.read(tx, accounts)
    may_change_group(actor, accounts.tree.codes[accounts.row_of_id[group.account_id]], group.code)
    gives = entitlements_service.products_of_group(tx, group)
    if gives:
        raise conflict(f"{group.name} gives {', '.join(gives)}; take that away first.")
    said = personal_storage.limits(tx, actor, accounts.tree.codes[accounts.row_of_id[group.account_id]], group.code)
    limited = [product.name for product, grains, _ in said if grains is not None]
    if limited:
        raise conflict(f"{group.name} limits what its people store of {', '.join(limited)}; take that away first.")
    around = [
        each
        for each in every.every
        if each.id != group.id and any(part.id == group.id for part in every.parts(each)[1])
    ]
    if around:
        raise conflict(f"{group.name} is part of {around[0].name}; remove it there first.")
    if group.source != "here":
        raise conflict(f"{group.name} is kept by {group.source}; change it there.")
    entitlements_service.forget_bars_of(tx, group)
    people_service.forget_group(tx, group.id)
    log_service.write(
        tx, actor, None, [log_service.Entry("group deleted", group.code, group.account_id, {"name": group.name})]
    )


def order(tx: Transaction, actor: Actor, account: str, codes: Sequence[str]) -> None:
    """Put an account's groups in an order of precedence: the first counts before the others."""
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, account)
    mine = {each.code: each for each in Groups.read(tx, accounts).every if each.account_id == int(accounts.ids[row])}
    if sorted(codes) != sorted(mine):
        raise conflict("The groups of this account are others by now; look again.")
    changed = [
        replace(mine[code], precedence=10 * place)
        for place, code in enumerate(codes, 1)
        if mine[code].precedence != 10 * place
    ]
    for each in changed:
        people_service.put_group(tx, each.id, {"precedence": each.precedence})
    log_service.write(
        tx,
        actor,
        None,
        [
            log_service.Entry(
                "group changed",
                each.code,
                each.account_id,
                {"precedence": mine[each.code].precedence},
                {"precedence": each.precedence},
            )
            for each in changed
        ],
    )
