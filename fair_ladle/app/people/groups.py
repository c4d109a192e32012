"""Groups of people and of groups: by hand, by a rule, or both; who is in one is asked of the database, never kept.

A group belongs to an account and holds people of that account's branch only. What stands among its members is a
username, or the code of another group: of the same account, of one above it, or of one in its branch.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.people import store
from fair_ladle.app.people.filters import Clause, clause
from fair_ladle.app.people.tables import people
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import Refused, invalid

PRESENT = people.c.status != "removed"
MOST_INSIDE = 200
"""Groups in a group, however deep."""


@dataclass(frozen=True)
class Group:
    """A group with its members as they are written, and the rule, if any, that has others in it."""

    id: int
    account_id: int
    code: str
    name: str
    rule: str | None
    members: tuple[str, ...]
    precedence: int | None
    source: str


def of_row(row: Any, members: tuple[str, ...]) -> Group:
    """A row of the table, with the members it has by hand, as a group."""
    return Group(
        row.id,
        row.account_id,
        row.code,
        row.name,
        row.rule or None,
        members,
        row.precedence,
        row.source,
    )


class Groups:
    """All groups over a tree, and the conditions under which somebody is in one of them."""

    def __init__(self, accounts: Accounts, every: list[Group]):
        self.accounts = accounts
        self.every = [each for each in every if each.account_id in accounts.row_of_id]
        self._by_code: dict[str, list[Group]] = {}
        for each in self.every:
            self._by_code.setdefault(each.code, []).append(each)

    @staticmethod
    def read(tx: Transaction, accounts: Accounts) -> Groups:
        """Every group there is."""
        members = store.members_of(tx.connection)
        return Groups(accounts, [of_row(row, members.get(row.id, ())) for row in store.all_groups(tx.connection)])

    def row(self, group: Group) -> int:
        """The row of the account it belongs to."""
        return self.accounts.row_of_id[group.account_id]

    def named(self, code: str, beside: Group) -> Group | None:
        """The group a member's code means: the nearest of that code, seen from the group it stands in."""
        here = self.row(beside)
        above, branch = self.accounts.tree.path_up(here), set(self.accounts.tree.branch(here).tolist())
        near = {row: place for place, row in enumerate(above)}
        fitting = [each for each in self._by_code.get(code, []) if self.row(each) in near or self.row(each) in branch]
        return min(fitting, key=lambda each: (near.get(self.row(each), len(above)), self.row(each)), default=None)

    def parts(self, group: Group) -> tuple[list[str], list[Group]]:
        """Its members by hand, told apart: usernames, and groups."""
        names: list[str] = []
        inside: list[Group] = []
        for member in group.members:
            found = self.named(member, group)
            if found is None:
                names.append(member)
            else:
                inside.append(found)
        return names, inside

    def inside(self, group: Group) -> Iterator[Group]:
        """The group and every group in it, however deep, each once."""
        seen, waiting = {group.id}, [group]
        while waiting:
            each = waiting.pop()
            yield each
            for part in self.parts(each)[1]:
                if part.id not in seen:
                    seen.add(part.id)
                    waiting.append(part)

    def check(self, group: Group) -> None:
        """Refuse a group that would be inside itself, or whose rule cannot be read. ``group`` stands in for the one
        of its id."""
        other = Groups(self.accounts, [group, *(each for each in self.every if each.id != group.id)])
        for part in other.parts(group)[1]:
            if any(each.id == group.id for each in other.inside(part)):
                raise invalid(
                    f"{part.name} is in {group.name} already, or is {group.name} itself; a "
                    "group cannot be inside itself.",
                    "members",
                )
        within = sum(1 for _ in other.inside(group)) - 1
        if within > MOST_INSIDE:
            raise invalid(
                f"{within} groups are in {group.name}, directly or through others; {MOST_INSIDE} at most.", "members"
            )
        if group.rule:
            clause(group.rule, "rule")

    def clause(self, group: Group) -> Clause:
        """The condition on people under which somebody is in a group."""
        return sa.and_(PRESENT, self.reaches(group))

    def reaches(self, group: Group) -> Clause:
        """The same for whoever is present anyway: one way in for each group inside, however many paths lead there."""
        ways = []
        for each, row in self._flat(group):
            names = self.parts(each)[0]
            direct: list[Clause] = []
            if names:
                direct.append(people.c.username.in_(names))
            if each.rule:
                direct.append(readable(each.rule))
            if direct:
                ways.append(sa.and_(in_branch(self.accounts, row), sa.or_(*direct)))
        return sa.or_(sa.false(), *ways)

    def _flat(self, group: Group) -> list[tuple[Group, int]]:
        """Every group inside, itself first, with the row of the narrowest branch on a way to it: people are of that
        branch.

        Each group and branch is visited once, so that nesting costs what there is and not what can be combined of
        it.
        """
        begin = (group, self.row(group))
        seen, found, waiting = {(group.id, begin[1])}, [begin], [begin]
        while waiting:
            each, row = waiting.pop()
            for part in self.parts(each)[1]:
                narrow = self._narrower(row, self.row(part))
                if narrow is not None and (part.id, narrow) not in seen:
                    seen.add((part.id, narrow))
                    found.append((part, narrow))
                    waiting.append((part, narrow))
        return found

    def _narrower(self, one: int, other: int) -> int | None:
        """Which of two branches is inside the other; None where they have nobody in common."""
        tree = self.accounts.tree
        if one in tree.path_up(other):
            return other
        return one if other in tree.path_up(one) else None

    def reasons(self, group: Group, matching: set[int], username: str) -> list[str]:
        """How somebody comes to be in a group; ``matching`` are the groups (ids) whose own rule they match."""
        reached: dict[int, bool] = {}

        def is_in(each: Group) -> bool:
            if each.id not in reached:
                reached[each.id] = False
                names, inside = self.parts(each)
                reached[each.id] = username in names or each.id in matching or any(is_in(part) for part in inside)
            return reached[each.id]

        names, inside = self.parts(group)
        found = ["by hand"] if username in names else []
        if group.id in matching:
            found.append("by its rule")
        found.extend(f"through {each.name}" for each in inside if is_in(each))
        return found


def is_present(person_id: int) -> Clause:
    """One person, while present."""
    return sa.and_(PRESENT, people.c.id == person_id)


def readable(rule: str) -> Clause:
    """A rule as a condition; one that cannot be read (it is refused before it is kept) has nobody in it."""
    try:
        return clause(rule, "rule")
    except Refused:
        return sa.false()


def in_branch(accounts: Accounts, row: int) -> Clause:
    """People of an account and those below it."""
    if row == 0:
        return sa.true()
    return people.c.account_id.in_([int(each) for each in accounts.ids[accounts.tree.branch(row)]])


def with_members(group: Group, add: list[str], take: list[str]) -> Group:
    """The group with other members by hand."""
    kept = [each for each in group.members if each not in take]
    return replace(group, members=tuple(dict.fromkeys([*kept, *add])))
