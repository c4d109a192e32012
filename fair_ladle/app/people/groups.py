"""Groups of people and of groups: by hand, by a rule, or both. Whom a rule is true of is kept: see ``memberships``.

A group belongs to an account and holds people of that account's branch only. What stands among its members is a
username, or the code of another group: of the same account, of one above it, or of one in its branch.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from copy import copy
from dataclasses import dataclass, replace
from functools import cached_property

import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people import store
from fair_ladle.app.people.filters import Clause, clause
from fair_ladle.app.people.rows import GroupRecord, PersonRecord
from fair_ladle.app.people.tables import group_members, people, rule_matches
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.cache import Cache
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
    kept: bool = False
    """Whether rows are kept of whom its rule is true: a rule that is new has none yet."""


def of_row(row: GroupRecord, members: tuple[str, ...]) -> Group:
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
        bool(row.rule) and row.kept_rule == row.rule,
    )


class Groups:
    """All groups over a tree, and the conditions under which somebody is in one of them."""

    def __init__(self, accounts: Accounts, every: list[Group], is_settled: Callable[[], bool] = lambda: False):
        """``is_settled``: whether nobody is there about whom rules are yet to be asked again."""
        self.accounts, self._is_settled = accounts, is_settled
        self.every = [each for each in every if each.account_id in accounts.row_of_id]
        self._by_code: dict[str, list[Group]] = {}
        for each in self.every:
            self._by_code.setdefault(each.code, []).append(each)

    @staticmethod
    def read(tx: Transaction, accounts: Accounts) -> Groups:
        """Every group there is; kept in this process while groups and accounts stay the same."""

        def anew() -> Groups:
            members = store.members_of(tx.connection)
            found = Groups(accounts, [of_row(row, members.get(row.id, ())) for row in store.all_groups(tx.connection)])
            _ = found._by_id, found._place, found._holders, found._of_account  # made once for every copy
            return found

        if tx.is_rehearsal:
            return anew()
        key = (tx.installation, generations.numbers(tx, "groups", "structure"), accounts_service.today(tx))
        found = copy(_known.get(key, anew))
        found._is_settled = lambda: not people_service.some_changed(tx)
        return found

    @property
    def settled(self) -> bool:
        """Whether nobody is there about whom rules are yet to be asked again."""
        return self._is_settled()

    def named_alone(self, name: str) -> Groups:
        """The group of an account's code, / and its own, alone."""
        codes = self.accounts.tree.codes
        found = [each for each in self.every if f"{codes[self.row(each)]}/{each.code}" == name]
        return Groups(self.accounts, found, self._is_settled)

    def within(self, row: int) -> Groups:
        """The groups of a branch alone."""
        return Groups(
            self.accounts, [each for each in self.every if self.is_below(self.row(each), row)], self._is_settled
        )

    def is_below(self, row: int, top: int) -> bool:
        """Whether an account is another one, or stands below it."""
        return self.accounts.tree.is_inside(row, top)

    def ruling(self, account_ids: Collection[int]) -> list[Group]:
        """The groups with a rule that people of these accounts may be in."""
        tree = self.accounts.tree
        above = {row for each in account_ids for row in tree.path_up(self.accounts.row_of_id[each])}
        return [each for each in self.every if each.rule and self.row(each) in above]

    def row(self, group: Group) -> int:
        """The row of the account it belongs to."""
        return self.accounts.row_of_id[group.account_id]

    def named(self, code: str, beside: Group) -> Group | None:
        """The group a member's code means: the nearest of that code, seen from the group it stands in."""
        alike = self._by_code.get(code)
        if alike is None:
            return None
        here = self.row(beside)
        above = self.accounts.tree.path_up(here)
        near = {row: place for place, row in enumerate(above)}
        fitting = [each for each in alike if self.row(each) in near or self.is_below(self.row(each), here)]
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
                direct.append(self._matches(each))
            if direct:
                ways.append(sa.and_(in_branch(self.accounts, row), sa.or_(*direct)))
        return sa.or_(sa.false(), *ways)

    def _matches(self, group: Group) -> Clause:
        """Of whom a group's own rule is true: as it is kept, or by the rule itself where that is newer."""
        rule = readable(group.rule or "")
        if not group.kept:
            return rule
        kept = people.c.id.in_(sa.select(rule_matches.c.person_id).where(rule_matches.c.group_id == group.id))
        if self.settled:
            return kept
        return sa.or_(sa.and_(people.c.regroup == sa.false(), kept), sa.and_(people.c.regroup == sa.true(), rule))

    def members(self, group: Group) -> sa.Select[tuple[int]] | sa.CompoundSelect[tuple[int]]:
        """The numbers of those present who are in a group: to count or to begin with, each way in by its index."""
        ways: list[sa.Select[tuple[int]]] = []
        for each, row in self._flat(group):
            branch = [PRESENT, in_branch(self.accounts, row)]
            names = self.parts(each)[0]
            if names:
                by_hand = people.c.username.in_(
                    sa.select(group_members.c.member).where(group_members.c.group_id == each.id)
                )
                ways.append(sa.select(people.c.id).where(*branch, by_hand))
            if each.rule and each.kept and self.settled and row == self.row(each):
                ways.append(sa.select(rule_matches.c.person_id).where(rule_matches.c.group_id == each.id))
            elif each.rule and each.kept:
                # Not in one condition with what is yet to be asked again: that would be asked of everybody.
                kept = rule_matches.join(people, people.c.id == rule_matches.c.person_id)
                of_group = [rule_matches.c.group_id == each.id, *branch]
                asked_again = people.c.regroup == sa.true()
                ways.append(sa.select(people.c.id).select_from(kept).where(*of_group, sa.not_(asked_again)))
                if not self.settled:
                    ways.append(sa.select(people.c.id).where(*branch, asked_again, readable(each.rule)))
            elif each.rule:
                ways.append(sa.select(people.c.id).where(*branch, readable(each.rule)))
        if not ways:
            return sa.select(people.c.id).where(sa.false())
        return ways[0] if len(ways) == 1 else sa.union(*ways)

    def of_people(self, tx: Transaction, rows: Sequence[PersonRecord]) -> dict[int, list[Group]]:
        """The groups that each of these present people is in, by the person's number, in the groups' order."""
        by_hand, by_rule = self.direct(tx, rows)
        return {each.id: self.around(by_hand[each.id] | by_rule[each.id], each) for each in rows}

    def direct(self, tx: Transaction, rows: Sequence[PersonRecord]) -> tuple[dict[int, set[int]], dict[int, set[int]]]:
        """The groups (numbers) that each of these people stands in by hand, and those whose own rule is true of them
        where they are present, by the person's number."""
        ids, by_id = [each.id for each in rows], self._by_id
        by_hand: dict[int, set[int]] = {each: set() for each in ids}
        direct: dict[int, set[int]] = {each: set() for each in ids}
        number = {each.username: each.id for each in rows}
        changed = {each.id for each in rows if each.regroup}
        for member, group_id, person_id in store.groups_of(tx.connection, number, set(ids) - changed):
            if group_id not in by_id:
                continue
            if member is not None and self.named(member, by_id[group_id]) is None:
                by_hand[number[member]].add(group_id)
            elif member is None and by_id[group_id].kept:
                direct[person_id].add(group_id)
        ruling = self.ruling([each.account_id for each in rows])
        for asked, whom in (
            ([each for each in ruling if not each.kept], ids),
            ([each for each in ruling if each.kept], sorted(changed)),
        ):
            clauses = [readable(each.rule or "") for each in asked]
            for group, members in zip(asked, store.true_of(tx.connection, whom, clauses) if whom else [], strict=False):
                for person_id in members:
                    direct[person_id].add(group.id)
        return by_hand, direct

    def around(self, direct: set[int], person: PersonRecord) -> list[Group]:
        """The groups that somebody is in, who is in these directly; none where they are not present."""
        place = self.accounts.row_of_id[person.account_id]
        found: set[int] = set()
        waiting = list(direct) if person.status != "removed" else []
        while waiting:
            each = waiting.pop()
            if each not in found and self.is_below(place, self.row(self._by_id[each])):
                found.add(each)
                waiting.extend(self._holders.get(each, ()))
        return self.numbered(found)

    def numbered(self, ids: Iterable[int]) -> list[Group]:
        """Groups by their numbers, in their order."""
        return [self._by_id[each] for each in sorted(self._by_id.keys() & ids, key=self._place.__getitem__)]

    def of_accounts(self, account_ids: Iterable[int]) -> list[int]:
        """The groups (numbers) of accounts: only those of the accounts above somebody may have them in it."""
        return [group_id for each in account_ids for group_id in self._of_account.get(each, ())]

    @cached_property
    def _of_account(self) -> dict[int, list[int]]:
        found: dict[int, list[int]] = {}
        for each in self.every:
            found.setdefault(each.account_id, []).append(each.id)
        return found

    @cached_property
    def _place(self) -> dict[int, int]:
        """Where each group stands in their order, by its number."""
        return {each.id: place for place, each in enumerate(self.every)}

    @cached_property
    def _by_id(self) -> dict[int, Group]:
        return {each.id: each for each in self.every}

    @cached_property
    def _holders(self) -> dict[int, list[int]]:
        """The groups in which a group stands directly."""
        found: dict[int, list[int]] = {}
        for each in self.every:
            for part in self.parts(each)[1]:
                found.setdefault(part.id, []).append(each.id)
        return found

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


_known: Cache[Groups] = Cache(8, megabytes=16)


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
    return accounts_service.in_branch(accounts, row, people.c.account_id)


def with_members(group: Group, add: list[str], take: list[str]) -> Group:
    """The group with other members by hand."""
    kept = [each for each in group.members if each not in take]
    return replace(group, members=tuple(dict.fromkeys([*kept, *add])))
