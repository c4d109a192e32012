"""How what people store of their own is spread: the largest, how many store how much, and who is over a limit."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.accounts.tables import accounts
from fair_ladle.app.people.tables import people
from fair_ladle.app.plumbing.database import fetch
from fair_ladle.app.storage.rows import Band, BandStates, PastLimit
from fair_ladle.app.storage.store import IN_ORDER, LARGEST_FIRST, TRUE, beyond, grains, near_from
from fair_ladle.app.usage.tables import stored
from fair_ladle.app.usage.whose import Ownership
from fair_ladle.core.quantities import BYTES_PER_GRAIN

k, a, p = stored, accounts, people


@dataclass(frozen=True)
class PeopleAsked:
    """What present people store of their own of a product in a branch (``inside`` is of stored.account_id)."""

    product_id: int
    inside: sa.ColumnElement[bool]
    whose_is: Ownership
    is_whole: bool
    """The branch is the whole tree."""

    @property
    def conditions(self) -> list[sa.ColumnElement[bool]]:
        """Which rows they are."""
        theirs = [] if self.whose_is.person_id is None else [self.whose_is.person_id.is_not(None)]
        return [k.c.product_id == self.product_id, k.c.kind == "person", k.c.bytes > 0, self.inside, *theirs]

    def named(self) -> sa.FromClause:
        """Rows of stored with people and accounts."""
        return k.join(p, self.whose_is.is_theirs).join(a, a.c.id == k.c.account_id)

    def of(self, wanted: sa.Select[*tuple[Any, ...]], needs_people: bool) -> sa.Select[*tuple[Any, ...]]:
        """What is asked of these rows, with people where they are to be read. Where they are not, and the branch is
        the whole tree, an index has all of it."""
        if needs_people or self.whose_is.person_id is None:
            found = wanted.select_from(k.join(p, self.whose_is.is_theirs))
        else:
            found = wanted.select_from(k)
            found = found.with_hint(k, IN_ORDER, "mysql") if self.is_whole else found
        return found.where(*self.conditions)


def largest(
    connection: sa.Connection,
    asked: PeopleAsked,
    most: int,
    limit: int | None = None,
    governed: sa.ColumnElement[bool] = TRUE,
) -> list[PastLimit]:
    """Of the present people of a branch those who store most of their own, more than a limit (grains) and of those for
    whom ``governed`` is true. Where the branch is the whole tree they are read in order, and no more of them than are
    wanted."""
    wanted = sa.select(*_NAMED, grains.label("grains"), sa.literal(limit or 0).label("limit")).select_from(
        asked.named()
    )
    if asked.is_whole:
        wanted = wanted.prefix_with("STRAIGHT_JOIN").with_hint(k, IN_ORDER, "mysql")
    mine = wanted.where(*asked.conditions, TRUE if limit is None else k.c.bytes >= beyond(limit), governed)
    return fetch(connection, mine.order_by(*LARGEST_FIRST).limit(most), PastLimit)


def largest_past(
    connection: sa.Connection,
    asked: PeopleAsked,
    limited: sa.ColumnElement[Any],
    governed: sa.ColumnElement[bool],
    most: int,
) -> list[PastLimit]:
    """Of those over their limit the ones that are furthest over it: who, where, grains, and the limit."""
    wanted = sa.select(*_NAMED, grains.label("grains"), limited.label("limit")).select_from(asked.named())
    mine = wanted.where(*asked.conditions, governed, k.c.bytes >= beyond(limited))
    return fetch(connection, mine.order_by((grains - limited).desc(), p.c.username).limit(most), PastLimit)


_NAMED = p.c.username, p.c.display_name, a.c.name.label("account_name")


def sizes(connection: sa.Connection, asked: PeopleAsked) -> list[Band]:
    """What present people store of their own in a branch, the smallest first: how many ``people`` store so much
    (grains, to three digits), and their grains together."""
    columns = [_to_three_digits().label("size"), sa.func.count().label("people"), sa.func.sum(grains).label("grains")]
    wanted = asked.of(sa.select(*columns), needs_people=False)
    return fetch(connection, wanted.group_by("size").order_by("size"), Band)


def states(
    connection: sa.Connection,
    asked: PeopleAsked,
    needs_people: bool,
    governed: sa.ColumnElement[bool],
    would: int | sa.ColumnElement[Any],
    now: sa.ColumnElement[Any],
) -> list[BandStates]:
    """The same of those for whom ``governed`` is true, with how many of each would be over and near a limit (grains),
    by how many grains beyond it, and how many are over and near the one there is now: all of one pass."""

    columns = [_to_three_digits().label("size"), sa.func.count().label("people")]
    for end, limit in (("", would), ("_now", now)):
        # Limits are worked out for each row and as seldom as can be: over and near are counted as one number. A limit
        # of 0 has nothing near it.
        is_column = isinstance(limit, sa.ColumnElement)
        some = sa.func.nullif(limit, 0, type_=sa.BigInteger()) if is_column else limit
        near = k.c.bytes >= near_from(some) if is_column or limit else sa.false()
        told = sa.case((k.c.bytes >= beyond(limit), _OVER), (near, 1))
        columns.append(sa.func.coalesce(sa.func.sum(told), 0).label(f"told{end}"))
    past = sa.case((k.c.bytes >= beyond(would), grains - would))
    columns.append(sa.func.coalesce(sa.func.sum(past), 0).label("beyond"))
    q = asked.of(sa.select(*columns).where(governed), needs_people).group_by("size").subquery()
    counts = []
    for end, both in (("", q.c.told), ("_now", q.c.told_now)):
        over = both.op("DIV", precedence=8, return_type=sa.BigInteger())(_OVER)
        counts += [over.label(f"over{end}"), sa.cast(both % _OVER, sa.BigInteger).label(f"near{end}")]
    wanted = sa.select(q.c.size, q.c.people, *counts, q.c.beyond).order_by(q.c.size)
    return fetch(connection, wanted, BandStates)


_OVER = 2**32
"""What one who is over counts, where one who is near counts 1."""


def _to_three_digits() -> sa.ColumnElement[int]:
    """Bytes as grains to three digits, at least 1: told apart by size, which is faster than a logarithm."""
    at_least_1 = (k.c.bytes < BYTES_PER_GRAIN * 3 // 2, sa.literal(1))
    steps = [10**digits for digits in range(MOST_DIGITS - 2)]
    ways = [(k.c.bytes < step * BYTES_PER_GRAIN * 1999 // 2, _to(step)) for step in steps[:-1]]
    return sa.case(at_least_1, *ways, else_=_to(steps[-1]))


def _to(step: int) -> sa.ColumnElement[int]:
    whole = step * BYTES_PER_GRAIN
    return (k.c.bytes + whole // 2).op("DIV", precedence=8, return_type=sa.BigInteger())(whole) * step


MOST_DIGITS = 13
"""Grains have no more in 2⁶³ bytes."""
