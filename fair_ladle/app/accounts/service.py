"""The tree as others need it, and the rule of scope.

Functions that take an actor check it; the others serve use-cases that have done so.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from functools import cached_property
from operator import itemgetter
from typing import Any, NamedTuple
from zoneinfo import ZoneInfo

import numpy as np
import sqlalchemy as sa

from fair_ladle.app.accounts import store
from fair_ladle.app.accounts.tables import accounts as accounts_table
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.cache import Cache
from fair_ladle.app.plumbing.database import Transaction, batched
from fair_ladle.app.plumbing.merge import Merged, merge
from fair_ladle.app.plumbing.problems import EMPTY, Problem, Refused, not_found
from fair_ladle.core.calendar import MICRO, day_start, instant, local_day
from fair_ladle.core.settling import Flags
from fair_ladle.core.tree import Ints, Tree


class AccountFacts(NamedTuple):
    """What is known of an account on a day; ``status`` None = active, ``placed_since`` None = since ever, ``made_on``
    None = by an intake."""

    id: int
    code: str
    kind: str
    name: str
    currency: str | None = None
    time_zone: str | None = None
    admin_email: str | None = None
    billing_email: str | None = None
    placed_since: date | None = None
    status: str | None = None
    charged: bool | None = None
    status_since: date | None = None
    path: str = ""
    unallocated: str = "free"
    tax: str = "normal"
    made_on: date | None = None


@dataclass(frozen=True)
class Accounts:
    """The accounts of a day: the tree, and by its rows their ids and facts (code, kind, name, …)."""

    tree: Tree
    ids: Ints
    facts: tuple[AccountFacts, ...]
    row_of_id: dict[int, int]

    def branches(self, codes: Iterable[str]) -> list[int]:
        """The numbers of the accounts in the branches of these (codes)."""
        rows = {int(row) for code in codes if code in self.tree for row in self.tree.branch(self.tree.row(code))}
        return [int(self.ids[row]) for row in sorted(rows)]

    def part(self, rows: Iterable[int]) -> Accounts:
        """Some accounts, by their rows, and all above them, as a tree of their own."""
        kept: set[int] = set()
        for row in rows:
            while row >= 0 and row not in kept:
                kept.add(row)
                row = int(self.tree.parent[row])
        found = np.array(sorted(kept or {0}), dtype=np.int64)
        ids, facts = self.ids[found], tuple(self.facts[row] for row in found.tolist())
        return Accounts(self.tree.part(found), ids, facts, {each: row for row, each in enumerate(ids.tolist())})

    def rows(self, account_ids: Ints) -> Ints:
        """The rows of accounts given by id; KeyError where one is none of these."""
        order, ids = self._by_id
        places = np.minimum(np.searchsorted(ids, account_ids), len(ids) - 1)
        strange = ids[places] != account_ids
        if strange.any():
            raise KeyError(int(account_ids[strange][0]))
        found: Ints = order[places]
        return found

    @cached_property
    def _by_id(self) -> tuple[Ints, Ints]:
        """The rows in the order of their ids, and these."""
        order = np.argsort(self.ids)
        return order, self.ids[order]

    def inherited(self, row: int, field: str) -> Any:
        """A fact of the account, or of the nearest above it that has one."""
        return next((value for above in self.tree.path_up(row) if (value := getattr(self.facts[above], field))), None)

    @cached_property
    def restrained(self) -> dict[int, AccountFacts]:
        """The facts of the accounts, by row, that are suspended or closed themselves."""
        return {row: each for row, each in enumerate(self.facts) if each.status is not None}

    def status(self, row: int) -> str:
        """active, suspended or closed: the account's own, or that of an account above it where that is stricter."""
        found = (
            {self.restrained[each].status for each in self.tree.path_up(row) if each in self.restrained}
            if self.restrained
            else set()
        )
        return "closed" if "closed" in found else "suspended" if "suspended" in found else "active"

    @cached_property
    def closed(self) -> Flags:
        """Rows that are closed, or stand below an account that is."""
        flags = np.zeros(len(self.tree), dtype=bool)
        for row, each in self.restrained.items():
            if each.status == "closed":
                flags[self.tree.branch(row)] = True
        return flags

    @cached_property
    def _made_on(self) -> Ints:
        return np.array([each.made_on.toordinal() if each.made_on else 0 for each in self.facts], dtype=np.int64)

    def was_there(self, day: date) -> Flags:
        """Rows that had been made by a day; figures have an account as there since ever."""
        there: Flags = self._made_on <= day.toordinal()
        return there

    @cached_property
    def searchable(self) -> tuple[str, ...]:
        """What each account is found by: its name and code, in small letters."""
        return tuple(f"{each.name} {each.code}".lower() for each in self.facts)

    def flagged(self, account_ids: Iterable[int]) -> Flags:
        """The rows of accounts given by id; others that are not here are left out."""
        flags = np.zeros(len(self.tree), dtype=bool)
        flags[[self.row_of_id[each] for each in account_ids if each in self.row_of_id]] = True
        return flags

    @cached_property
    def uncharged(self) -> Flags:
        """Rows whose seller does not charge them: they, or an account above them, are suspended without being
        charged."""
        flags = np.zeros(len(self.tree), dtype=bool)
        for row, each in self.restrained.items():
            if each.status == "suspended" and not each.charged:
                flags[self.tree.branch(row)] = True
        return flags

    def since(self, row: int, top: int) -> date | None:
        """The day since which an account stands below another one without a break; None = since ever, or itself."""
        path = self.tree.path_up(row)
        days = [self.facts[each].placed_since for each in path[: path.index(top)]]
        return max((day for day in days if day is not None), default=None)

    def name(self, row: int) -> str:
        """What the account is called."""
        return str(self.facts[row].name)

    def full_name(self, row: int, top: int) -> str:
        """What the account is called beside others: a sub-account with its client, where that lies below ``top``, the
        top of the reader's branch; of what lies above it nothing is told."""
        if row != top and self.facts[row].kind == "sub-account":
            for above in self.tree.path_up(row)[1:]:
                if above == top:
                    break
                if self.facts[above].kind != "sub-account":
                    return f"{self.name(row)} · {self.name(above)}"
        return self.name(row)


def operator(tx: Transaction) -> Any:
    """The root account; refused while there is none."""
    return _operator(tx, structure_number(tx))


def _operator(tx: Transaction, structure: int) -> Any:
    def read() -> Any:
        found = store.root(tx.connection)
        if found is None:
            raise Refused(Problem(EMPTY, "Nothing here yet", 409, "There are no accounts; bring an intake in first."))
        return found

    return read() if tx.is_rehearsal else _operators.get((tx.installation, structure), read)


_operators: Cache[Any] = Cache(8, megabytes=1)


def is_set_up(tx: Transaction) -> bool:
    """Whether this installation has its operator."""
    return store.root(tx.connection) is not None


def zone(tx: Transaction) -> ZoneInfo:
    """The operator's time zone: what days are reckoned in."""
    return ZoneInfo(operator(tx).time_zone or "UTC")


def today(tx: Transaction) -> date:
    """The operator's present day."""
    return _today(tx, structure_number(tx))


def _today(tx: Transaction, structure: int) -> date:
    return local_day(tx.now, ZoneInfo(_operator(tx, structure).time_zone or "UTC"))


def start_of(tx: Transaction, day: date) -> datetime:
    """The instant at which a day of the operator begins."""
    return instant(day_start(day, zone(tx)) * MICRO)


def read(tx: Transaction, day: date) -> Accounts:
    """All accounts as they stand on a day, from the facts. Those that are nowhere then are left out."""
    found = store.on_day(tx.connection, day)
    if not found:
        operator(tx)
    return _laid_out({each.id: each.parent_id for each in found}, _facts(found))


def _facts(found: Sequence[Any]) -> list[AccountFacts]:
    """Of rows of ``PlacedAccount``, by the places of their columns: there may be a hundred thousand."""
    if not found:
        return []
    names = list(found[0]._fields)
    picked = itemgetter(*(names.index(each) for each in AccountFacts._fields))
    return list(map(AccountFacts._make, map(picked, found)))


def _laid_out(parents: Mapping[int, int | None], facts: Sequence[AccountFacts]) -> Accounts:
    """A tree of accounts, each (by id) with its parent."""
    code_of = {each.id: each.code for each in facts}
    tree = Tree.build({code_of[each]: None if above is None else code_of.get(above) for each, above in parents.items()})
    by_code = {each.code: each for each in facts}
    in_rows = tuple([by_code[code] for code in tree.codes])
    ids = [each.id for each in in_rows]
    return Accounts(tree, np.array(ids, dtype=np.int64), in_rows, dict(zip(ids, range(len(ids)), strict=True)))


def known(tx: Transaction) -> Accounts:
    """All accounts as they stand today, kept while the structure stays the same. Whoever changes them says so before
    asking."""

    def read() -> Accounts:
        structure = structure_number(tx)
        now = _today(tx, structure)
        return _on_day(tx, structure, now, now)

    return tx.once("accounts", read)


_turns: Cache[list[date]] = Cache(8, megabytes=1)
_trees: Cache[Accounts] = Cache(8, megabytes=128)


def on_day(tx: Transaction, day: date) -> Accounts:
    """All accounts as they stand on a day; those that are nowhere then are left out. Kept while the structure stays the
    same: days between which nothing turns have the same tree, and what is the same as today is there once."""
    structure = structure_number(tx)
    return _on_day(tx, structure, day, _today(tx, structure))


def _on_day(tx: Transaction, structure: int, day: date, now: date) -> Accounts:
    of = (tx.installation, structure)
    turns = _turns.get(of, lambda: store.turns(tx.connection))
    spell = bisect_right(turns, day)
    if spell == bisect_right(turns, now):
        return _trees.get((of, spell), lambda: read(tx, day))
    return _trees.get((of, spell), lambda: _turned(tx, _on_day(tx, structure, now, now), now, day))


def _turned(tx: Transaction, accounts: Accounts, now: date, day: date) -> Accounts:
    """Today's accounts as they stand on another day."""
    tree, ids = accounts.tree, accounts.ids
    turned = store.turned_between(tx.connection, min(now, day), max(now, day))
    there = {each.id: each for part in batched(turned) for each in store.on_day(tx.connection, day, part)}
    others = _facts(list(there.values()))

    def above(account_id: int) -> int | None:
        row = accounts.row_of_id.get(account_id, -1)
        return int(ids[tree.parent[row]]) if row > 0 else None

    if all(each in there and each in accounts.row_of_id and above(each) == there[each].parent_id for each in turned):
        facts = list(accounts.facts)
        for each in others:
            facts[accounts.row_of_id[each.id]] = each
        return Accounts(tree, ids, tuple(facts), accounts.row_of_id)
    gone = set(turned)
    parent_ids = [None, *ids[tree.parent[1:]].tolist()]
    parents = {each: above for each, above in zip(ids.tolist(), parent_ids, strict=True) if each not in gone}
    kept = [each for each in accounts.facts if each.id not in gone]
    return _laid_out(parents | {each: row.parent_id for each, row in there.items()}, kept + others)


def around(tx: Transaction, day: date, codes: Collection[str] | None) -> Accounts:
    """The branches of these accounts and those above them on a day, as a tree of their own; all, where it is not said
    whose."""
    accounts = on_day(tx, day)
    if codes is None:
        return accounts
    tree = accounts.tree
    return accounts.part([int(row) for code in codes if code in tree for row in tree.branch(tree.row(code))])


def segments(tx: Transaction, first: date, last: date) -> list[tuple[date, date]]:
    """A period cut at the days on which accounts moved, so that each part has one tree."""
    begins = [first, *store.changes_of_place(tx.connection, first, last)]
    ends = [*(date.fromordinal(day.toordinal() - 1) for day in begins[1:]), last]
    return list(zip(begins, ends, strict=True))


def top_row(accounts: Accounts, actor: Actor) -> int:
    """The row at the top of the actor's branch."""
    if actor.scope is None:
        return 0
    if actor.scope not in accounts.tree:
        raise not_found("account", actor.scope)
    return accounts.tree.row(actor.scope)


def row_in_scope(accounts: Accounts, actor: Actor, code: str) -> int:
    """The row of an account the actor may see; others do not exist for the actor."""
    if actor.scope is not None and actor.scope not in accounts.tree:
        raise not_found("account", code)
    top = top_row(accounts, actor)
    if code in accounts.tree:
        row = accounts.tree.row(code)
        place = int(accounts.tree.depth_first[row]) - int(accounts.tree.depth_first[top])
        if 0 <= place < int(accounts.tree.branch_size[top]):
            return row
    raise not_found("account", code)


def is_in_scope(accounts: Accounts, actor: Actor, code: str) -> bool:
    """Whether an account, by its code, is of the actor's branch."""
    try:
        row_in_scope(accounts, actor, code)
    except Refused:
        return False
    return True


def names(accounts: Accounts, codes: Iterable[str]) -> dict[str, str]:
    """Names by code, as far as there are such accounts."""
    return {code: accounts.name(accounts.tree.row(code)) for code in codes if code in accounts.tree}


def sees(accounts: Accounts, actor: Actor, account_id: int) -> bool:
    """Whether an account, by its number, is of the actor's branch."""
    return top_row(accounts, actor) in accounts.tree.path_up(accounts.row_of_id[account_id])


def branch_ids(accounts: Accounts, actor: Actor, code: str | None = None) -> list[int] | None:
    """The numbers of the accounts of a branch the actor may see (None = all of theirs); None where that is every
    account."""
    row = top_row(accounts, actor) if code is None else row_in_scope(accounts, actor, code)
    return None if row == 0 else [int(each) for each in accounts.ids[accounts.tree.branch(row)]]


def in_branch(accounts: Accounts, row: int, account_id: sa.ColumnElement[int]) -> sa.ColumnElement[bool]:
    """Whether a column names an account of a branch; always, where that is the whole tree. Below few accounts they are
    named, else it is a range of their paths as they stand today: of the accounts' own column directly, so that the
    range is what is read first."""
    if row == 0:
        return sa.true()
    if int(accounts.tree.branch_size[row]) <= NAMED:
        return account_id.in_([int(each) for each in accounts.ids[accounts.tree.branch(row)]])
    path = accounts.facts[row].path
    inside = accounts_table.c.path.between(path, path + PAST_EVERY_PATH)
    if account_id is accounts_table.c.id:
        return inside
    return account_id.in_(sa.select(accounts_table.c.id).where(inside))


NAMED, PAST_EVERY_PATH = 20, "~"


def among(accounts: Accounts, account_ids: Collection[int], column: sa.ColumnElement[int]) -> sa.ColumnElement[bool]:
    """Whether a column names one of these accounts: of whole branches of them the branch is asked for, however many
    there are in it; the others are named."""
    rows = {accounts.row_of_id[each] for each in account_ids}
    tops = [row for row in sorted(rows) if int(accounts.tree.parent[row]) not in rows]
    branches = {top: accounts.tree.branch(top).tolist() for top in tops if accounts.tree.branch_size[top] > NAMED}
    whole = [top for top, branch in branches.items() if rows.issuperset(branch)]
    others = rows.difference(*(branches[top] for top in whole))
    listed = column.in_(sorted(int(accounts.ids[row]) for row in others))
    return sa.or_(listed, *(in_branch(accounts, top, column) for top in whole))


def load(tx: Transaction, rows: list[dict[str, Any]], parents: dict[str, str | None]) -> Merged:
    """Create and change accounts by code and put each below its parent.

    A new account stands there since ever; one that is there and gets another parent moves today.
    """
    there = store.ids_by_code(tx.connection)
    said = {row["code"]: row["unallocated"] for row in rows if row.get("unallocated")}
    rows = [{name: value for name, value in row.items() if name != "unallocated"} for row in rows]
    merged = merge(tx.connection, accounts_table, ["code"], rows)
    today = local_day(tx.now, zone_of(rows, tx))
    moved = store.place(tx.connection, parents, today)
    if moved:
        generations.renew(tx, "places")
    ids = store.ids_by_code(tx.connection)
    known = store.unallocated_on(tx.connection, today) if said else {}
    for code, value in said.items():
        if known.get(ids[code], "free") != value:
            # A new account has it from its first day on, one that was there from today on.
            store.set_unallocated(tx.connection, ids[code], value, today if code in there else None)
            moved += code in there
    merged.changed += moved
    merged.left -= min(moved, merged.left)
    return merged


def create(tx: Transaction, row: dict[str, Any], parent: str, unallocated: str) -> int:
    """A new account below a parent (codes), made today and for every figure there since ever; its id."""
    account_id = store.insert(tx.connection, {**row, "made_on": today(tx)})
    store.set_unallocated(tx.connection, account_id, unallocated, None)
    store.place(tx.connection, {row["code"]: parent}, today(tx))
    return account_id


def change(tx: Transaction, account_id: int, values: dict[str, Any]) -> None:
    """Other facts of an account; whoever keeps a copy of the structure reads it anew."""
    store.update(tx.connection, account_id, values)
    if "currency" in values:
        generations.renew(tx, "rates")
    structure_changed(tx)


def move(tx: Transaction, code: str, parent: str) -> None:
    """Let an account stand below another parent from today on."""
    store.place(tx.connection, {code: parent}, today(tx))
    generations.renew(tx, "places")


def set_status(tx: Transaction, account_id: int, status: str, charged: bool) -> None:
    """Let an account be active, suspended or closed from today on. Whoever keeps a copy of the structure is the
    caller's to tell."""
    store.set_status(tx.connection, account_id, None if status == "active" else status, charged, today(tx))


def uncharged(tx: Transaction, first: date, last: date) -> list[tuple[int, date, date]]:
    """Accounts (ids) suspended without being charged in a period, each with the first and last of those days within
    it."""
    return [
        (row.account_id, max(first, row.first_day), min(last, row.last_day or last))
        for row in store.uncharged(tx.connection, first, last)
    ]


def closed_in(tx: Transaction, accounts: Accounts, row: int, first: date, last: date) -> date | None:
    """The last day of an account that it, or an account above it, was closed after in a period and not reopened
    since."""
    closed = store.closings(tx.connection, first, last + timedelta(days=1))
    days = [
        closed[int(accounts.ids[above])] for above in accounts.tree.path_up(row) if int(accounts.ids[above]) in closed
    ]
    return min(days) - timedelta(days=1) if days else None


def zone_of(rows: list[dict[str, Any]], tx: Transaction) -> ZoneInfo:
    """The operator's zone, from rows about to be placed or from what is there."""
    found = next((row["time_zone"] for row in rows if row["kind"] == "operator"), None)
    there = store.root(tx.connection)
    return ZoneInfo(found or (there.time_zone if there else None) or "UTC")


def ids_by_code(tx: Transaction, codes: Collection[str] | None = None) -> dict[str, int]:
    """The ids of accounts by their codes: of these, or of all."""
    return store.ids_by_code(tx.connection, codes)


def structure_number(tx: Transaction) -> int:
    """While it stays the same, accounts, their places, products and pools do."""
    return generations.numbers(tx, "structure")[0]


def structure_changed(tx: Transaction) -> None:
    """Say that accounts, places, products or pools have changed."""
    generations.renew(tx, "structure")
