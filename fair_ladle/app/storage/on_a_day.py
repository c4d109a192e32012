"""The storage screen as of the end of a day that is over, read from the samples themselves: of a branch that does not
store too much.

Accounts stand where they stand today, and whose bytes are whose is judged by where people are today. Limits per person
are not kept by day and not told.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.allocations import listing as allocations
from fair_ladle.app.allocations import service as allocations_service
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.cache import Cache
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import Refused, invalid
from fair_ladle.app.storage import store
from fair_ladle.app.storage.listing import KIND_OF, Order, Row, Rows, Size, Total, product_of
from fair_ladle.app.usage import stored as usage_stored
from fair_ladle.core.calendar import day_name
from fair_ladle.core.settling import NO_LIMIT


@dataclass(frozen=True)
class Held:
    """Bytes of one person, folder or category of an account at the end of a day, and a week, a month and a quarter
    before."""

    account_id: int
    kind: str
    name: str
    figures: tuple[int, ...]


MOST_HELD, MOST_SERIES = 20_000, 60_000
"""Of so many people, folders and categories together, in so many categories of samples, it is read how much they stored
on a day."""
_held: Cache[list[Held]] = Cache(8, megabytes=32)
PLACE_OF = {"size": 0, "week": 1, "month": 2, "quarter": 3}


def _sum(held: Sequence[Held]) -> list[int]:
    return [sum(figures) for figures in zip(*(each.figures for each in held), strict=True)] or [0, 0, 0, 0]


def _size(figures: Sequence[int]) -> Size:
    return Size(*(usage_stored.grains(each) for each in figures))


class _Branch:
    """A branch on a day, and what it stored."""

    def __init__(self, tx: Transaction, actor: Actor, product: str, account: str, day: date):
        self.tx, self.product = tx, product_of(tx, actor, product)
        self.accounts: Accounts = accounts_service.known(tx)
        self.row = accounts_service.row_in_scope(self.accounts, actor, account)
        today = accounts_service.today(tx)
        if day >= today:
            raise invalid(f"A day before today, {day_name(today)}; without a day it is the present.", "day")
        inside = accounts_service.in_branch(self.accounts, self.row, store.k.c.account_id)
        if store.held(tx.connection, self.product.id, inside, MOST_HELD + 1) > MOST_HELD:
            raise self._too_much()
        self.at = usage_stored.ends(accounts_service.zone(tx), day)
        # Of a day that is over only late samples change anything.
        made_of = (generations.numbers(tx, "structure"), allocations_service.past(tx, self.product, day))
        key = (tx.installation, self.product, account, day, made_of)
        self.held = _held.get(key, self._read)

    def _too_much(self) -> Refused:
        name = self.accounts.name(self.row)
        return invalid(f"{name} stores too much to be read as of a day. Choose an account below it.", "account")

    def _read(self) -> list[Held]:
        whose = accounts_service.in_branch(self.accounts, self.row, store.s.c.account_id)
        series = store.series(self.tx.connection, self.product.id, whose, self.at[0], MOST_SERIES + 1)
        if len(series) > MOST_SERIES:
            raise self._too_much()
        sums: dict[tuple[int, str, str], list[int]] = defaultdict(lambda: [0, 0, 0, 0])
        for (_, account_id, category), level in usage_stored.levels(
            self.tx, [(self.product.id, *each) for each in series], self.at
        ).items():
            mine = sums[account_id, *usage_stored.holder_of(category)]
            for place, figure in enumerate(level.figures):
                mine[place] += figure
        return [Held(*key, tuple(figures)) for key, figures in sums.items()]

    def people(self) -> dict[str, store.Whose]:
        """Who the usernames are that store something: name, and account where they are present."""
        return store.people_named(self.tx.connection, {each.name for each in self.held if each.kind == "person"})

    def caps(self, codes: Sequence[str]) -> dict[str, tuple[int | None, str]]:
        """The cap in force on the day (None = none in sight) and the state of accounts that a pool reaches."""
        found = allocations.on_day(self.tx, [self.product], codes, self.at[0])
        states, tree = found.states(), found.snapshot.accounts.tree
        told = {}
        for code in codes:
            if code in tree and int(found.snapshot.owner[tree.row(code), 0]) >= 0:
                cap = int(found.snapshot.grid.cap[tree.row(code), 0])
                told[code] = (None if cap >= NO_LIMIT else cap, states[tree.row(code)][0])
        return told


def total(tx: Transaction, actor: Actor, product: str, account: str, day: date) -> Total:
    """What an account of the actor's branch stored with all below it at the end of a day."""
    branch = _Branch(tx, actor, product, account, day)
    people = branch.people()
    parts: dict[str, list[Held]] = defaultdict(list)
    for each in branch.held:
        is_left = each.kind == "person" and not _is_here(people, each)
        parts["left" if is_left else each.kind].append(each)
    cap, state = branch.caps([account]).get(account, (None, "within"))
    top = accounts_service.top_row(branch.accounts, actor)
    above = int(branch.accounts.tree.parent[branch.row])
    return Total(
        branch.product,
        account,
        branch.accounts.name(branch.row),
        None if branch.row == top or above < 0 else branch.accounts.tree.codes[above],
        _size(_sum(branch.held)),
        cap,
        state,
        _size(_sum(parts["person"])),
        _size(_sum(parts["folder"])),
        _size(_sum(parts["left"])),
        _size(_sum(parts["category"])),
        None,
    )


def _is_here(people: dict[str, store.Whose], held: Held) -> bool:
    return held.name in people and people[held.name].account_id == held.account_id


def children(
    tx: Transaction,
    actor: Actor,
    product: str,
    account: str,
    day: date,
    order: Order,
    offset: int = 0,
    limit: int | None = None,
) -> Rows:
    """A window (all, if not said) of the accounts directly below one that stored something, each with all below it, and
    of it itself."""
    branch = _Branch(tx, actor, product, account, day)
    tree, row_of = branch.accounts.tree, branch.accounts.row_of_id
    sums: dict[int, list[Held]] = defaultdict(list)
    for each in branch.held:
        path = tree.path_up(row_of[each.account_id])
        place = path.index(branch.row)
        sums[path[place - 1] if place else branch.row].append(each)
    sized = sorted(((row, _sum(held)) for row, held in sums.items()), key=lambda each: _key(each[1], order, each[0]))
    part = sized[offset:] if limit is None else sized[offset : offset + limit]
    caps = branch.caps([tree.codes[row] for row, _ in part])
    made = []
    for row, figures in part:
        code, name, itself = tree.codes[row], branch.accounts.name(row), row == branch.row
        cap, state = (None, None) if itself else caps.get(code, (None, None))
        title = f"{name} itself" if itself else name
        made.append(Row(code, name, "" if itself else code, title, _size(figures), cap, None, state, True, None, None))
    return Rows(made, len(sized))


def holders(
    tx: Transaction,
    actor: Actor,
    product: str,
    account: str,
    what: str,
    day: date,
    order: Order,
    find: str,
    offset: int = 0,
    limit: int | None = None,
) -> Rows:
    """A window (all, if not said) of the people, folders or categories of a branch."""
    branch = _Branch(tx, actor, product, account, day)
    people, top = branch.people(), accounts_service.top_row(branch.accounts, actor)
    words = [each.lower() for each in find.split()[:10]]
    found = []
    for each in branch.held:
        if each.kind != KIND_OF[what]:
            continue
        row = branch.accounts.row_of_id[each.account_id]
        account_name, is_here = branch.accounts.full_name(row, top), each.kind != "person" or _is_here(people, each)
        title = people[each.name].name if each.kind == "person" and is_here else each.name
        if all(word in f"{each.name} {title} {account_name}".lower() for word in words):
            code = branch.accounts.tree.codes[row]
            size = _size(each.figures)
            made = Row(code, account_name, each.name, title, size, None, None, None, is_here, None, None)
            found.append((_key(each.figures, order, row, each.name), made))
    found.sort(key=lambda each: each[0])
    part = found[offset:] if limit is None else found[offset : offset + limit]
    return Rows([row for _, row in part], len(found))


def _key(figures: Sequence[int], order: Order, row: int, name: str = "") -> tuple[int, int, str]:
    """The largest first, or what had grown most."""
    place = PLACE_OF.get(order)
    if place is None:
        raise invalid("As of a day: by size, or by what came in a week, a month or a quarter.", "order")
    return -(figures[0] - figures[place] if place else figures[0]), row, name
