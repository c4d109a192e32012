"""Who is in a group by its rule, kept as rows: made when a rule is new, asked again when a person changes.

A row says that a rule is true of somebody present in the branch of the group's account. Whoever changes a person says
``regroup``; until they are asked again, readers ask the rule itself about them. A group's rows count while they were
made by the rule it has.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence

import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.people import store
from fair_ladle.app.people.groups import PRESENT, Group, Groups, in_branch, readable
from fair_ladle.app.people.rows import PersonRecord
from fair_ladle.app.people.tables import groups, people, rule_matches
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.database import Transaction

AT_ONCE, GROUPS_AT_ONCE = 500, 20


Follow = Callable[[Transaction, Sequence[PersonRecord]], None]


def catch_up(tx: Transaction, follow: Follow) -> int:
    """Make the rows of groups whose rule is new, or ask the rules again about a part of those who changed, and let
    ``follow`` what else is kept beside them; how many there were. 0 = nothing was to do.

    Locks: the groups, or the people, by id; whoever changes them comes before or after.
    """
    every = Groups.read(tx, accounts_service.known(tx))
    stale = sorted((each for each in every.every if each.rule and not each.kept), key=lambda each: each.id)
    if stale:
        for each in stale[:GROUPS_AT_ONCE]:
            _make(tx, every, each)
        generations.renew(tx, "groups")
        return len(stale)
    changed = store.to_regroup(tx.connection, AT_ONCE)
    if changed:
        _ask_again(tx, changed, follow)
    return len(changed)


def rebuild(tx: Transaction) -> None:
    """Make every group's rows anew, as an intake does that brings everybody in."""
    connection = tx.connection
    connection.execute(sa.update(people).where(people.c.regroup == sa.true()).values(regroup=False))
    every = Groups.read(tx, accounts_service.known(tx))
    for each in every.every:
        if each.rule:
            _make(tx, every, each)
    generations.renew(tx, "groups")


def regroup_branches(tx: Transaction, account_ids: Collection[int]) -> None:
    """Accounts stand elsewhere: other groups have their people."""
    store.regroup(tx.connection, account_ids)


def _make(tx: Transaction, every: Groups, group: Group) -> None:
    row = store.lock_group(tx.connection, group.id)
    if row is None:
        return
    connection, rule = tx.connection, row.rule or ""
    connection.execute(sa.delete(rule_matches).where(rule_matches.c.group_id == group.id))
    found = sa.select(sa.literal(group.id), people.c.id).where(
        PRESENT, in_branch(every.accounts, every.row(group)), readable(rule)
    )
    connection.execute(sa.insert(rule_matches).from_select(["group_id", "person_id"], found))
    connection.execute(sa.update(groups).where(groups.c.id == group.id).values(kept_rule=rule))


def _ask_again(tx: Transaction, ids: Sequence[int], follow: Follow) -> None:
    rows = store.lock_people(tx.connection, ids)
    follow(tx, rows)
    # Read under their locks: an intake that had them has made every group's rows by the rules as they are now.
    every = Groups.read(tx, accounts_service.known(tx))
    asked = every.ruling([each.account_id for each in rows])
    members = matching(tx, every, rows, asked)
    connection = tx.connection
    connection.execute(sa.delete(rule_matches).where(rule_matches.c.person_id.in_(ids)))
    found = [{"group_id": group_id, "person_id": person_id} for person_id, mine in members.items() for group_id in mine]
    if found:
        connection.execute(sa.insert(rule_matches), found)
    connection.execute(sa.update(people).where(people.c.id.in_(ids)).values(regroup=False))


def matching(
    tx: Transaction, every: Groups, rows: Sequence[PersonRecord], asked: Sequence[Group]
) -> dict[int, set[int]]:
    """By the rules themselves: which of these groups (numbers) each of these people is in by the group's own rule."""
    ids = [each.id for each in rows]
    true = store.true_of(tx.connection, ids, [sa.and_(PRESENT, readable(each.rule or "")) for each in asked])
    found: dict[int, set[int]] = {each: set() for each in ids}
    place = {each.id: every.accounts.row_of_id[each.account_id] for each in rows}
    for group, members in zip(asked, true, strict=True):
        for person_id in members:
            if every.is_below(place[person_id], every.row(group)):
                found[person_id].add(group.id)
    return found


def differences(tx: Transaction) -> list[tuple[str, str, str, str]]:
    """Groups whose kept rows are not what their rule makes them: (what, where, found, evidence)."""
    every = Groups.read(tx, accounts_service.known(tx))
    waiting = set(store.to_regroup(tx.connection, None))
    found = []
    for each in every.every:
        if not each.rule or not each.kept:
            continue
        kept = store.kept_of(tx.connection, each.id)
        branch = in_branch(every.accounts, every.row(each))
        facts = set(tx.connection.scalars(sa.select(people.c.id).where(PRESENT, branch, readable(each.rule))))
        wrong = (kept ^ facts) - waiting
        if wrong:
            where = f"{every.accounts.tree.codes[every.row(each)]}/{each.code}"
            found.append(
                ("members by rule", where, f"{len(kept)} people", f"{len(facts)}, {len(wrong)} of them others")
            )
    return found
