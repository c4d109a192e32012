"""A product's month: its readings, day by day, and what can be asked of them."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta
from functools import cached_property

import numpy as np

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.allocations import seats
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.plumbing.cache import Cache
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Pool, Product
from fair_ladle.app.usage import service as usage
from fair_ladle.core.calendar import Day, days_of, local_day
from fair_ladle.core.costing import supply_on
from fair_ladle.core.pricing import Aggregate, Basis, BuyerDay, Rate, Summed, summed, with_more
from fair_ladle.core.quantities import units_to_micro
from fair_ladle.core.readings import Readings, read_days
from fair_ladle.core.settling import NO_LIMIT, Flags, Roots, pool_of
from fair_ladle.core.tree import Ints


@dataclass(frozen=True)
class _Parts:
    """In tree order: the places there of accounts that have a part in lines, it in grain-seconds, and the owners of
    their pools."""

    accounts: Accounts
    places: Ints
    weights: list[int]
    owners: Ints

    @cached_property
    def by_code(self) -> list[tuple[str, int]]:
        """Their codes with their parts."""
        codes = self.accounts.tree.codes
        rows = self.accounts.tree.rows_in_order()[self.places].tolist()
        return [(codes[row], weight) for row, weight in zip(rows, self.weights, strict=True)]


@dataclass(frozen=True)
class LineParts:
    """Which part each account has in its buyers' lines, over days of one tree.

    ``owner``: each account's pool owner (row, or -1); ``weigh``: every account's part in grain-seconds, in lines by
    what is used (else by what is held).
    """

    accounts: Accounts
    owner: Ints
    weigh: Callable[[bool], Ints]
    _parts: dict[bool, _Parts] = field(default_factory=dict, compare=False, repr=False)

    def row(self, code: str) -> int | None:
        """The row of an account that a pool reaches."""
        if code not in self.accounts.tree:
            return None
        row = self.accounts.tree.row(code)
        return row if self.owner[row] >= 0 else None

    def of(self, row: int, basis: Basis) -> list[tuple[str, int]]:
        """The accounts of an account's branch in its pool that have a part in a line, in tree order."""
        every, mine = self._of(row, basis)
        return [every.by_code[each] for each in mine]

    def by_place(self, row: int, basis: Basis) -> tuple[Ints, list[int]]:
        """The same by their places in tree order, with their parts."""
        every, mine = self._of(row, basis)
        return every.places[mine], [every.weights[each] for each in mine]

    def _of(self, row: int, basis: Basis) -> tuple[_Parts, list[int]]:
        key, tree = basis is Basis.USED, self.accounts.tree
        if key not in self._parts:
            weights = self.weigh(key)
            rows = tree.rows_in_order()[weights[tree.rows_in_order()] != 0]
            self._parts[key] = _Parts(self.accounts, tree.depth_first[rows], weights[rows].tolist(), self.owner[rows])
        every, first = self._parts[key], int(tree.depth_first[row])
        begin, end = np.searchsorted(every.places, [first, first + int(tree.branch_size[row])]).tolist()
        mine = np.flatnonzero(every.owners[begin:end] == self.owner[row]) + begin
        return every, mine.tolist()


@dataclass(frozen=True)
class Segment:
    """Days of one tree: the accounts, their readings, and each account's pool owner (row, or -1)."""

    accounts: Accounts
    readings: Readings
    owner: Ints
    pools: dict[int, Pool]
    """The pools by their owners' rows."""
    uncharged: dict[int, Flags]
    """Days on which accounts are suspended without being charged, by the rows that this was said of."""
    _sums: dict[tuple[Basis, bool], Ints] = field(default_factory=dict, compare=False, repr=False)
    _weights: dict[bool, Ints] = field(default_factory=dict, compare=False, repr=False)

    @staticmethod
    def of(
        accounts: Accounts, readings: Readings, roots: Roots, pools: Sequence[Pool], uncharged: dict[int, Flags]
    ) -> Segment:
        """Days that were read, given where the pools (in the order of ``roots``) begin."""
        owner = pool_of(accounts.tree, roots, 1)[:, 0]
        return Segment(accounts, readings, owner, dict(zip(roots.rows.tolist(), pools, strict=True)), uncharged)

    def supply(self, row: int) -> Ints:
        """What the lots of the pool that an account (row) owns give, in grain-seconds a day."""
        lots, read = self.pools[row].lots, self.readings
        return np.array([supply_on(lots, day.date).quantity for day in read.days], dtype=np.int64) * read.seconds

    def charged_days(self, row: int) -> Flags:
        """The days on which an account is charged: on others it, or an account above it, is suspended without."""
        if self.charged is None:
            return np.ones(len(self.readings.days), dtype=bool)
        mine: Flags = self.charged[row]
        return mine

    @cached_property
    def charged(self) -> Flags | None:
        """The same of every account, accounts × days; None where every day is."""
        return charged_days_of(self.accounts, self.uncharged, len(self.readings.days))

    @cached_property
    def caps(self) -> Ints:
        """The cap of every account on every day in grain-seconds, below 0 = none; accounts × days."""
        read = self.readings
        written = read.allocated.cap
        caps: Ints = np.where(written >= NO_LIMIT, -1, np.where(written >= NO_LIMIT, 0, written) * read.seconds)
        for row, column in read.allocated.following:
            most = read.cap(row, column)
            caps[row, column] = -1 if most is None else most
        return caps

    def sums(self, basis: Basis, has_overage: bool) -> Ints:
        """Of every account the chargeable grain-seconds of its days, what was past its cap (or beyond its reserve), and
        how many days count; 3 × accounts."""
        if (basis, has_overage) not in self._sums:
            self._sums[basis, has_overage] = self._summed(basis, has_overage)
        return self._sums[basis, has_overage]

    def _summed(self, basis: Basis, has_overage: bool) -> Ints:
        read, grid = self.readings, self.readings.allocated
        reserve, held = grid.reserve * read.seconds, read.settled.held
        counts = grid.present | (held > 0)
        quantity = {Basis.USED: read.used, Basis.HELD: held, Basis.RESERVED: reserve}[basis]
        past: Ints = np.zeros_like(quantity)
        if has_overage and basis is Basis.RESERVED:
            past = np.maximum(0, read.used - reserve)
        elif has_overage:
            measured = read.used if basis is Basis.USED else read.settled.load
            past = np.where(grid.overage & (self.caps >= 0), np.maximum(0, measured - self.caps), 0)
        if basis is not Basis.RESERVED:
            quantity = np.maximum(0, quantity - past)
        if self.charged is not None:
            quantity, past, counts = quantity * self.charged, past * self.charged, counts & self.charged
        return np.stack([each.sum(axis=1) for each in (quantity, past, counts)])

    def weights(self, by_use: bool) -> Ints:
        """Every account's part in its buyers' lines, in grain-seconds."""
        if by_use not in self._weights:
            own, cushion = self.readings.own, self.readings.settled.cushion
            weights = own if by_use else own + cushion
            self._weights[by_use] = (weights if self.charged is None else weights * self.charged).sum(axis=1)
        return self._weights[by_use]

    @cached_property
    def line_parts(self) -> LineParts:
        """Which part each account has in its buyers' lines."""
        return LineParts(self.accounts, self.owner, self.weights)

    def row(self, code: str) -> int | None:
        """The row of an account that a pool reaches."""
        return self.line_parts.row(code)

    def branch(self, row: int) -> Ints:
        """The rows of an account's branch in its pool, in tree order."""
        rows = self.accounts.tree.branch(row)
        mine: Ints = rows[self.owner[rows] == self.owner[row]]
        return mine


def charged_days_of(accounts: Accounts, uncharged: Mapping[int, Flags], days: int) -> Flags | None:
    """The days on which each account is charged, accounts × days, given those on which some (rows) are suspended
    without; None where every day is."""
    if not uncharged:
        return None
    charged = np.ones((len(accounts.tree), days), dtype=bool)
    for row, flags in uncharged.items():
        charged[accounts.tree.branch(row)] &= ~flags
    return charged


@dataclass(frozen=True)
class PoolWeights:
    """By what a pool's cost is shared, in grain-seconds: its owner's Σ own, the accounts directly below (codes) with
    their Σ held, in tree order, and Σ supply."""

    own: int
    below: tuple[tuple[str, int], ...]
    supply: int


@dataclass(frozen=True)
class ProductMonth:
    """Everything read of one product in a month up to its last ended day."""

    product: Product
    first: date
    last: date
    segments: tuple[Segment, ...]
    pools: tuple[Pool, ...]

    @cached_property
    def seconds(self) -> int:
        """Σ L of the days read."""
        return sum(int(segment.readings.seconds.sum()) for segment in self.segments)

    @property
    def line_parts(self) -> Sequence[LineParts]:
        """Which part each account has in its buyers' lines, by the trees of the days."""
        return [segment.line_parts for segment in self.segments]

    @property
    def days(self) -> list[Day]:
        """The days read."""
        return [day for segment in self.segments for day in segment.readings.days]

    def is_charged(self, code: str) -> bool:
        """Whether a buyer was charged on the last day read: not where it, or one above it, is suspended without."""
        segment = self.segments[-1] if self.segments else None
        row = None if segment is None else segment.row(code)
        return segment is None or row is None or bool(segment.charged_days(row)[-1])

    def buyer_days(self, code: str, anyway: bool = False) -> list[BuyerDay] | None:
        """A buyer's days; None where it has no line: its own pool, or (unless ``anyway``) nothing held or allocated."""
        days: list[BuyerDay] = []
        something = False
        for segment in self.segments:
            row = segment.row(code)
            if row is None:
                days.extend(BuyerDay(int(each), 0, 0, 0, 0, None, False) for each in segment.readings.seconds)
                continue
            if segment.owner[row] == row:
                return None
            read, grid = segment.readings, segment.readings.allocated
            charged = segment.charged_days(row)
            counts = charged & (grid.present[row] | (read.settled.held[row] > 0))
            something = something or bool(counts.any())
            cap = [read.cap(row, column) if over else None for column, over in enumerate(grid.overage[row].tolist())]
            days.extend(
                BuyerDay(seconds, load, held, reserve * seconds, used, most, is_there)
                if is_charged
                else BuyerDay(seconds, 0, 0, 0, 0, None, False)
                for seconds, load, held, reserve, used, most, is_charged, is_there in zip(
                    read.seconds.tolist(),
                    read.settled.load[row].tolist(),
                    read.settled.held[row].tolist(),
                    grid.reserve[row].tolist(),
                    read.used[row].tolist(),
                    cap,
                    charged.tolist(),
                    counts.tolist(),
                    strict=True,
                )
            )
        return days if something or anyway else None

    def summed(self, code: str, rate: Rate) -> Summed | None:
        """A buyer's days together as a rate counts them; None where it has no line: its own pool, or (unless the rate
        charges anyway) nothing held or allocated."""
        if rate.aggregate is not Aggregate.AVERAGE:
            days = self.buyer_days(code, rate.charges_anyway)
            return summed(rate, days, self.product.per_unit) if days else None
        sums = self._sums(code, rate.basis, rate.overage_price is not None)
        if sums is None or not self.seconds or not (sums[2] or rate.charges_anyway):
            return None
        quantity, past = (units_to_micro(each, self.seconds, self.product.per_unit) for each in sums[:2])
        return Summed(quantity, past, sums[2])

    def summed_with(self, code: str, rate: Rate, more: int) -> Summed | None:
        """The same with so many grains more (below 0: fewer) in use on every day that counts."""
        days = self.buyer_days(code, rate.charges_anyway)
        return summed(rate, [with_more(each, more) for each in days], self.product.per_unit) if days else None

    def has_something(self, code: str) -> bool:
        """Whether an account held something of others' pools, or was allocated something."""
        sums = self._sums(code, Basis.HELD, has_overage=False)
        return sums is not None and sums[2] > 0

    def _sums(self, code: str, basis: Basis, has_overage: bool) -> tuple[int, int, int] | None:
        quantity = past = counted = 0
        for segment in self.segments:
            row = segment.row(code)
            if row is None:
                continue
            if segment.owner[row] == row:
                return None
            more = segment.sums(basis, has_overage)[:, row].tolist()
            quantity, past, counted = quantity + more[0], past + more[1], counted + more[2]
        return quantity, past, counted

    def weights(self, code: str, basis: Basis) -> list[tuple[str, int]]:
        """A branch's accounts with their weights in grain-seconds, in tree order: those that have one."""
        sums: dict[str, int] = {}
        for each_tree in self.line_parts:
            row = each_tree.row(code)
            if row is None:
                continue
            parts = each_tree.of(row, basis)
            if len(self.segments) == 1:
                return parts
            for each, value in parts:
                sums[each] = sums.get(each, 0) + value
        return list(sums.items())

    def weights_by_place(self, code: str, basis: Basis, accounts: Accounts) -> tuple[list[int], list[int]]:
        """The same, by their places in the order of a tree (-1 = not in it)."""
        parts = self.line_parts
        if len(parts) == 1 and parts[0].accounts is accounts and (row := parts[0].row(code)) is not None:
            places, weights = parts[0].by_place(row, basis)
            return places.tolist(), weights
        found = self.weights(code, basis)
        return [accounts.tree.place(each) for each, _ in found], [weight for _, weight in found]

    def weights_of(self, pool: Pool) -> PoolWeights:
        """By what a pool's cost is shared."""
        own, supply = 0, 0
        below: dict[str, int] = {}
        for segment in self.segments:
            row = segment.accounts.row_of_id[pool.owner_id]
            own += int(segment.readings.own[row].sum())
            supply += int(segment.supply(row).sum())
            branch, tree = segment.branch(row), segment.accounts.tree
            children = branch[tree.parent[branch] == row]
            held = segment.readings.settled.held[children].sum(axis=1)
            for each, value in zip(children.tolist(), held.tolist(), strict=True):
                below[tree.codes[each]] = below.get(tree.codes[each], 0) + value
        return PoolWeights(own, tuple(below.items()), supply)


def read_month(tx: Transaction, product: Product, first: date, last: date) -> ProductMonth:
    """Read a product's month, from the facts, up to the last day that has ended."""
    return read_months(tx, [product], first, last, None)[product.code]


def read_months(
    tx: Transaction, products: Sequence[Product], first: date, last: date, buyers: Collection[str] | None
) -> dict[str, ProductMonth]:
    """The same of several products, by code, read in one go; with ``buyers`` only what is of their branches: of those
    above them nothing counts."""
    zone = accounts_service.zone(tx)
    ended = min(last, local_day(tx.now, zone) - timedelta(days=1))
    segments: dict[str, list[Segment]] = {each.code: [] for each in products}
    whose = None if buyers is None else tuple(buyers)
    trees = tx.once(f"trees of {whose} from {first} to {ended}", lambda: _trees(tx, first, ended, whose))
    for days, accounts, uncharged in trees:
        ids = None if buyers is None else accounts.branches(buyers)
        own = usage.own_of_each_by_day(tx, accounts, products, days, ids)
        grids = allocations.by_days(tx, accounts, products, days, ids)
        for product in products:
            roots, placed = pools_service.layout(accounts, pools_service.pools(tx, [product]), [product])
            follow = seats.of_days(tx, accounts, roots, grids[product.id], days, ids)
            readings = read_days(accounts.tree, own[product.id], grids[product.id], roots.rows.tolist(), days, follow)
            segments[product.code].append(Segment.of(accounts, readings, roots, placed, uncharged))
    return {
        each.code: ProductMonth(each, first, last, tuple(segments[each.code]), tuple(pools_service.pools(tx, [each])))
        for each in products
    }


def _trees(
    tx: Transaction, first: date, last: date, buyers: Collection[str] | None
) -> list[tuple[list[Day], Accounts, dict[int, Flags]]]:
    """The days of a period by the trees they have, and the days on which accounts (rows) are not charged."""
    zone, found = accounts_service.zone(tx), []
    for begin, end in accounts_service.segments(tx, first, last) if first <= last else []:
        accounts, days = accounts_service.around(tx, begin, buyers), days_of(begin, end, zone)
        found.append((days, accounts, uncharged_days(tx, accounts, days)))
    return found


def uncharged_days(tx: Transaction, accounts: Accounts, days: Sequence[Day]) -> dict[int, Flags]:
    """The days on which some accounts (rows) are suspended without being charged."""
    found: dict[int, Flags] = {}
    first = days[0].date
    for account_id, begin, end in accounts_service.uncharged(tx, first, days[-1].date):
        if account_id not in accounts.row_of_id:
            continue
        flags = found.setdefault(accounts.row_of_id[account_id], np.zeros(len(days), dtype=bool))
        flags[(begin - first).days : (end - first).days + 1] = True
    return found


_FIGURES = 9
"""About so many arrays like ``own`` a month of a product has."""


def _bytes_of(months: Mapping[str, ProductMonth]) -> int:
    return _FIGURES * sum(each.readings.own.nbytes for month in months.values() for each in month.segments)


_months: Cache[Mapping[str, ProductMonth]] = Cache(16, megabytes=24, bytes_of=_bytes_of)
SETTLED_AFTER = timedelta(minutes=1)
"""After midnight: what was admitted before it may be kept only a moment later."""


def is_settled(tx: Transaction, first: date, last: date) -> bool:
    """Whether nothing comes any more, by itself, to the days of a month that are over."""
    today = accounts_service.today(tx)
    is_early = tx.now - accounts_service.start_of(tx, today) < SETTLED_AFTER
    return not (is_early and first <= today <= last + timedelta(days=1))


def months_of(
    tx: Transaction, products: Sequence[Product], first: date, last: date, buyers: Sequence[str]
) -> Mapping[str, ProductMonth]:
    """The month of products, by code, of a few buyers' branches: kept until facts of days that are over change, or
    another day has ended."""
    if not is_settled(tx, first, last):
        return read_months(tx, products, first, last, buyers)
    made_of = tuple((each, allocations.past(tx, each, last)) for each in products)
    key = (tx.installation, made_of, first, min(last, accounts_service.today(tx)), tuple(buyers))
    return _months.get(key, lambda: read_months(tx, products, first, last, buyers))
