"""How what people store of their own is spread: the largest, how many store how much, and who is over a limit."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.accounts.tables import accounts
from fair_ladle.app.people.tables import people
from fair_ladle.app.plumbing.database import fetch
from fair_ladle.app.plumbing.prepared import Prepared
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
    governed: sa.ColumnElement[bool] = TRUE
    """Of these, those for whom it is true."""
    needs_people: bool = False
    """Whether rows of people decide it."""

    @property
    def conditions(self) -> list[sa.ColumnElement[bool]]:
        """Which rows they are."""
        theirs = [] if self.whose_is.person_id is None else [self.whose_is.person_id.is_not(None)]
        of_product = [k.c.product_id == self.product_id, k.c.kind == "person", k.c.bytes > 0]
        return [*of_product, self.inside, self.governed, *theirs]

    def between(self, ranges: Sequence[tuple[int, int]]) -> PeopleAsked:
        """Of these only who stores from so many bytes on, and less than so many."""
        some = sa.or_(*(sa.and_(k.c.bytes >= first, k.c.bytes < end) for first, end in ranges))
        return replace(self, inside=sa.and_(self.inside, some))

    def named(self) -> sa.FromClause:
        """Rows of stored with people and accounts."""
        return k.join(p, self.whose_is.is_theirs).join(a, a.c.id == k.c.account_id)

    @property
    def reads_people(self) -> bool:
        """Whether rows of people are read for it."""
        return self.needs_people or self.whose_is.person_id is None

    @property
    def is_in_index(self) -> bool:
        """Whether an index has all of it, by size."""
        return self.is_whole and not self.reads_people

    def of(self, wanted: sa.Select[*tuple[Any, ...]]) -> sa.Select[*tuple[Any, ...]]:
        """What is asked of these rows, with people where they are to be read."""
        found = wanted.select_from(k.join(p, self.whose_is.is_theirs) if self.reads_people else k)
        found = found.with_hint(k, IN_ORDER, "mysql") if self.is_in_index else found
        return found.where(*self.conditions)


def largest(connection: sa.Connection, asked: PeopleAsked, most: int, limit: int | None = None) -> list[PastLimit]:
    """Of these people those who store most of their own, more than a limit (grains). Where the branch is the whole tree
    they are read in order, and no more of them than are wanted."""
    wanted = sa.select(*_NAMED, grains.label("grains"), sa.literal(limit or 0).label("limit")).select_from(
        asked.named()
    )
    if asked.is_whole:
        wanted = wanted.prefix_with("STRAIGHT_JOIN").with_hint(k, IN_ORDER, "mysql")
    mine = wanted.where(*asked.conditions, TRUE if limit is None else k.c.bytes >= beyond(limit))
    return fetch(connection, mine.order_by(*LARGEST_FIRST).limit(most), PastLimit)


def largest_past(
    connection: sa.Connection, asked: PeopleAsked, limited: sa.ColumnElement[Any], most: int
) -> list[PastLimit]:
    """Of those over their limit the ones that are furthest over it: who, where, grains, and the limit."""
    wanted = sa.select(*_NAMED, grains.label("grains"), limited.label("limit")).select_from(asked.named())
    mine = wanted.where(*asked.conditions, k.c.bytes >= beyond(limited))
    return fetch(connection, mine.order_by((grains - limited).desc(), p.c.username).limit(most), PastLimit)


_NAMED = p.c.username, p.c.display_name, a.c.name.label("account_name")


def sizes(connection: sa.Connection, asked: PeopleAsked) -> list[Band]:
    """What these people store of their own, the smallest first: how many ``people`` store so much (grains, to three
    digits), and their grains together."""
    if asked.is_in_index:
        return _sizes_in_index(connection, asked)
    columns = [_to_two_digits().label("size"), sa.func.count().label("people"), sa.func.sum(grains).label("grains")]
    return fetch(connection, asked.of(sa.select(*columns)).group_by("size").order_by("size"), Band)


def _sizes_in_index(connection: sa.Connection, asked: PeopleAsked) -> list[Band]:
    """Each of them counted where it stands in the index, which takes a third of what it takes to put a million in
    groups."""
    of_product = k.c.product_id == asked.product_id, k.c.kind == "person", k.c.bytes > 0
    there = sa.select(k.c.bytes).with_hint(k, IN_ORDER, "mysql").where(*of_product).limit(1)
    first = connection.scalar(there.order_by(k.c.bytes))
    if first is None:
        return []
    last = connection.execute(there.order_by(k.c.bytes.desc())).scalar_one()
    together = sa.func.coalesce(sa.func.sum(grains), 0).label("grains")
    # With values, which lists of accounts in the conditions are written out with.
    size, begin, past = (sa.bindparam(name, 0, sa.BigInteger) for name in ("size", "first", "past"))
    columns = [size.label("size"), sa.func.count().label("people"), together]
    one = asked.of(sa.select(*columns)).where(k.c.bytes >= begin, k.c.bytes < past)
    bands = [{"size": size, "first": first, "past": past} for size, first, past in _bands(first, last)]
    return [each for each in Prepared(one).run(connection, *bands) if each.people]


def _bands(first: int, last: int) -> Iterator[tuple[int, int, int]]:
    """From one number of bytes on, up to another: grains to two digits, and from how many bytes on, and up to how many,
    that is so much."""
    while first <= last:
        past = _PAST_1
        if first >= _PAST_1:
            step, end = _step(first)
            past = min((two_digits(first) + step) * BYTES_PER_GRAIN - step * BYTES_PER_GRAIN // 2, end)
        yield two_digits(first), first, past
        first = past


def at_rank(connection: sa.Connection, asked: PeopleAsked, bands: Sequence[Band], rank: int) -> int:
    """What the one of these people stores (grains) who stores the so many-th least, from 1 on; ``bands`` are their
    sizes."""
    for band in bands:
        if rank <= band.people:
            inside = asked.between([_bytes_of(band.size)])
            wanted = inside.of(sa.select(grains)).order_by(k.c.bytes).offset(rank - 1).limit(1)
            return int(connection.execute(wanted).scalar_one())
        rank -= band.people
    return 0


Limit = int | sa.ColumnElement[Any] | None
"""A limit (grains) of everybody, None = none, or of each."""


def states(connection: sa.Connection, asked: PeopleAsked, would: Limit, now: Limit) -> list[BandStates]:
    """The same, with how many of each would be over and near a limit, by how many grains beyond it, and how many are
    over and near the one there is: all of one pass.

    Where both are the same for everybody, it follows from how much they store to two digits; only the few who store
    about as much as a limit, or as what is near it, are looked at one by one."""
    if isinstance(would, sa.ColumnElement) or isinstance(now, sa.ColumnElement):
        return _states_of_each(connection, asked, would, now)
    split = sorted({band for band in map(_band_split, (*_ends(would), *_ends(now))) if band})
    exact = {}
    if split:
        at_ends = asked.between([_bytes_of(band) for band in split])
        exact = {band.size: band for band in _states_of_each(connection, at_ends, would, now)}
    bands = sizes(connection, asked)
    return [exact[band.size] if band.size in exact else _states_of_all(band, would, now) for band in bands]


def _ends(limit: int | None) -> tuple[int, ...]:
    """The least bytes that are near a limit, and over it. A limit of 0 has nothing near it."""
    if limit is None:
        return ()
    return (near_from(limit), beyond(limit)) if limit else (beyond(limit),)


def _states_of_all(band: Band, would: int | None, now: int | None) -> BandStates:
    """Where all who store so much are in one state."""

    def told(limit: int | None) -> tuple[int, int]:
        if limit is None:
            return 0, 0
        if band.size >= two_digits(beyond(limit)):
            return band.people, 0
        return 0, band.people if limit and band.size >= two_digits(near_from(limit)) else 0

    over, near = told(would)
    past = band.grains - band.people * would if over and would is not None else Decimal(0)
    return BandStates(band.size, band.people, over, near, *told(now), past)


def _states_of_each(connection: sa.Connection, asked: PeopleAsked, would: Limit, now: Limit) -> list[BandStates]:
    columns = [_to_two_digits().label("size"), sa.func.count().label("people")]
    for end, limit in (("", would), ("_now", now)):
        # Limits are worked out for each row and as seldom as can be: over and near are counted as one number.
        is_column = isinstance(limit, sa.ColumnElement)
        some = sa.func.nullif(limit, 0, type_=sa.BigInteger()) if is_column else limit
        near = k.c.bytes >= near_from(some) if is_column or limit else sa.false()
        over = sa.false() if limit is None else k.c.bytes >= beyond(limit)
        told = sa.case((over, _OVER), (near, 1))
        columns.append(sa.func.coalesce(sa.func.sum(told), 0).label(f"told{end}"))
    past = sa.null() if would is None else sa.case((k.c.bytes >= beyond(would), grains - would))
    columns.append(sa.func.coalesce(sa.func.sum(past), 0).label("beyond"))
    q = asked.of(sa.select(*columns)).group_by("size").subquery()
    counts = []
    for end, both in (("", q.c.told), ("_now", q.c.told_now)):
        over = both.op("DIV", precedence=8, return_type=sa.BigInteger())(_OVER)
        counts += [over.label(f"over{end}"), sa.cast(both % _OVER, sa.BigInteger).label(f"near{end}")]
    wanted = sa.select(q.c.size, q.c.people, *counts, q.c.beyond).order_by(q.c.size)
    return fetch(connection, wanted, BandStates)


_OVER = 2**32
"""What one who is over counts, where one who is near counts 1."""


def _to_two_digits() -> sa.ColumnElement[int]:
    """Bytes as grains to two digits, at least 1: told apart by size, which is faster than a logarithm."""
    ways = [(k.c.bytes < past, _to(step)) for step, past in _STEPS[:-1]]
    return sa.case((k.c.bytes < _PAST_1, sa.literal(1)), *ways, else_=_to(_STEPS[-1][0]))


def two_digits(in_bytes: int) -> int:
    """The same of a number."""
    if in_bytes < _PAST_1:
        return 1
    step, _ = _step(in_bytes)
    whole = step * BYTES_PER_GRAIN
    return (in_bytes + whole // 2) // whole * step


def _step(in_bytes: int) -> tuple[int, int]:
    return next((each for each in _STEPS[:-1] if in_bytes < each[1]), _STEPS[-1])


def _band_split(end: int) -> int | None:
    """How much those store to two digits of whom some are below so many bytes, and some are not; None where there are
    none such."""
    return two_digits(end) if end > 0 and two_digits(end) == two_digits(end - 1) else None


def _bytes_of(size: int) -> tuple[int, int]:
    """From how many bytes on, and up to how many, that is so much to two digits."""
    every = range(2**63 - 1)
    return bisect_left(every, size, key=two_digits), bisect_right(every, size, key=two_digits)


def _to(step: int) -> sa.ColumnElement[int]:
    whole = step * BYTES_PER_GRAIN
    return (k.c.bytes + whole // 2).op("DIV", precedence=8, return_type=sa.BigInteger())(whole) * step


MOST_DIGITS = 13
"""Grains have no more in 2⁶³ bytes."""
_PAST_1 = BYTES_PER_GRAIN * 3 // 2
_STEPS: list[tuple[int, int]] = [
    (step, step * BYTES_PER_GRAIN * 199 // 2) for step in (10**digits for digits in range(MOST_DIGITS - 1))
]
"""What is rounded to so many grains, and from how many bytes on to ten times as many."""
