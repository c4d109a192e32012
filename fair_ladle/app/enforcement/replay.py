"""A product's past, laid out for replaying grace clocks and holds: what was in use, what counted, what was allowed."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Sequence
from functools import cached_property
from typing import Any

import numpy as np

from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.allocations.positions import Snapshot, to_version
from fair_ladle.app.allocations.rows import VersionRecord
from fair_ladle.app.allocations.seats import SeatsOverTime
from fair_ladle.app.people import service as people
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.usage import service as usage
from fair_ladle.core.allocations import AtCap, Version
from fair_ladle.core.calendar import FAR, MICRO, day_start, instant, local_day, micros
from fair_ladle.core.clocks import (
    GracePeriod,
    Steps,
    clock_from,
    counted_steps,
    grace_periods,
    loads_over_time,
    total,
    version_steps,
)
from fair_ladle.core.holds import Candidate, Hold, replay
from fair_ladle.core.settling import NO_LIMIT


class UsageHistory:
    """One product's past up to the world's instant, over the world's tree."""

    def __init__(self, tx: Transaction, snapshot: Snapshot, concerned: Collection[int] | None = None):
        """``concerned``: the accounts (rows) that are looked at; with their branches they are all that is read. None:
        every account that ever was under grace."""
        self.snapshot, self.zone, self.tree = snapshot, snapshot.zone, snapshot.accounts.tree
        self.product = snapshot.products[0]
        self.now = micros(snapshot.at)
        self._tx = tx
        if concerned is None:
            self.versions = self._read(allocations.all_versions(tx, [self.product.id]))
            concerned = [row for row, mine in self.versions.items() if any(each.at_cap is AtCap.GRACE for each in mine)]
            self.rows = self._branches(concerned)
        else:
            self.rows = self._branches(concerned)
            ids = [int(snapshot.accounts.ids[row]) for row in self.rows]
            self.versions = self._read(allocations.versions_of(tx, self.product, ids))
        self.concerned = sorted(concerned)

    def _read(self, rows: Sequence[VersionRecord]) -> dict[int, list[Version]]:
        found: dict[int, list[Version]] = defaultdict(list)
        for row in rows:
            place = self.snapshot.accounts.row_of_id.get(row.account_id)
            if place is not None and row.first_day <= self.snapshot.day:
                found[place].append(to_version(row, self.tree.codes[place]))
        return found

    def _branches(self, tops: Collection[int]) -> list[int]:
        """The accounts of these branches that a pool reaches, parents before their children."""
        inside = np.zeros(len(self.tree), dtype=bool)
        for row in tops:
            inside[self.tree.branch(row)] = True
        return [int(row) for row in np.flatnonzero(inside & (self.snapshot.owner[:, 0] >= 0))]

    @cached_property
    def own(self) -> dict[int, Steps]:
        """Each account's own use over time (left out where nothing)."""
        return usage.own_over_time(self._tx, self.snapshot.accounts, self.product, self.rows, self.snapshot.at)

    @cached_property
    def _seats(self) -> SeatsOverTime:
        return SeatsOverTime(self._tx, self.snapshot.accounts, self.snapshot.owner[:, 0], self.versions)

    @cached_property
    def loads(self) -> dict[int, Steps]:
        """load of every account over time."""
        owner = self.snapshot.owner[:, 0]

        def parent(row: int) -> int:
            return -1 if int(owner[row]) == row else int(self.tree.parent[row])

        return loads_over_time(
            self.rows,
            parent,
            lambda row: self.own.get(row, Steps.nothing()),
            lambda row: version_steps(self.versions[row], self.zone, lambda version: version.reserve),
        )

    def periods(self) -> dict[int, list[GracePeriod]]:
        """Every grace period of the accounts that are looked at and ever were under grace."""
        found = {}
        for row in self.concerned:
            if self.snapshot.owner[row, 0] < 0:
                continue
            versions = self.versions.get(row, [])
            if any(each.at_cap is AtCap.GRACE for each in versions):
                mine = grace_periods(self.loads[row], versions, self.now, self.zone, self._seats.of(row, versions))
                if mine:
                    found[row] = mine
        return found

    @cached_property
    def _assignments(self) -> dict[int, list[Any]]:
        mine: dict[int, list[Any]] = defaultdict(list)
        ids = [int(self.snapshot.accounts.ids[row]) for row in self.rows]
        for row in usage.assignments_of(self._tx, self.product, ids):
            place = self.snapshot.accounts.row_of_id.get(row.account_id)
            if place is not None:
                mine[place].append(row)
        return mine

    @cached_property
    def _people(self) -> dict[str, Any]:
        subjects = {row.subject for rows in self._assignments.values() for row in rows}
        return people.by_username(self._tx, subjects) if self.product.measure == "seat" else {}

    def holds(self, since: int, before: dict[int, list[Hold]]) -> dict[int, list[Hold]]:
        """Every hold of every account between an instant and now; ``before`` has what was on hold then, by account.
        Deeper accounts first: what they hold counts for those above too."""
        found: dict[int, list[Hold]] = {}
        if self.product.is_storage:
            return found
        periods = self.periods()
        for row in sorted(set(periods) | set(before), key=lambda each: -self.tree.depth(each)):
            inside = set(self.tree.branch(row).tolist())
            below = [hold for other, holds in found.items() if other in inside for hold in holds]
            found[row] = self._of_account(row, periods.get(row, []), since, before.get(row, []), below)
        return found

    def _of_account(
        self, row: int, periods: Sequence[GracePeriod], since: int, stack: list[Hold], below: Sequence[Hold]
    ) -> list[Hold]:
        owner = int(self.snapshot.owner[row, 0])
        branch = [int(each) for each in self.tree.branch(row) if int(self.snapshot.owner[each, 0]) == owner]
        mine = [(each, place) for place in branch for each in self._assignments.get(place, [])]
        begins = np.array([micros(each.begins) for each, _ in mine], dtype=np.int64)
        ends = np.array([FAR if each.ends is None else micros(each.ends) for each, _ in mine], dtype=np.int64)
        used = counted_steps(begins, ends)
        cap = version_steps(
            self.versions[row], self.zone, lambda version: version.cap if version.cap is not None else NO_LIMIT // 2
        )

        def restricted(at: int) -> bool:
            """Past the deadline that the version in force at that instant gives the clock then running."""
            period = next((p for p in periods if p.clock.since <= at and (p.cleared is None or at < p.cleared)), None)
            version = period and self._version_at(row, at)
            return bool(
                period and version and clock_from(period.clock.since, version.grace_days or 0, self.zone).is_over(at)
            )

        def held_below(at: int) -> set[int]:
            return {hold.assignment for hold in below if hold.begins <= at and (hold.ends is None or at < hold.ends)}

        def excess(at: int) -> int:
            if not restricted(at):
                return 0
            one = np.array([at], dtype=np.int64)
            return max(0, int(used.at(one)[0]) - int(cap.at(one)[0]) - len(held_below(at)))

        def running(at: int) -> list[int]:
            return [int(mine[n][0].id) for n in np.flatnonzero((begins <= at) & (ends > at)).tolist()]

        def candidates(at: int) -> list[Candidate]:
            elsewhere = held_below(at)
            above = {place: self._above_reserve(place, at) for place in branch}
            return [
                self._candidate(assignment, above[place], at)
                for n in np.flatnonzero((begins <= at) & (ends > at)).tolist()
                for assignment, place in [mine[n]]
                if assignment.id not in elsewhere
            ]

        deadlines = {
            clock_from(p.clock.since, each.grace_days or 0, self.zone).restricted_from
            for p in periods
            for each in self.versions[row]
        }
        turns = (
            deadlines
            | {day_start(each.first_day, self.zone) * MICRO for each in self.versions[row]}
            | {p.cleared for p in periods if p.cleared is not None}
        )
        steps = total([used, cap])
        times = (
            turns | set(steps.times.tolist()) | {t for hold in below for t in (hold.begins, hold.ends) if t is not None}
        )
        relevant = sorted(t for t in times if since < t <= self.now and (restricted(t) or t in turns))
        found = replay(relevant, excess, running, candidates, stack)
        if sum(hold.ends is None for hold in found) != excess(self.now) and relevant[-1:] != [self.now]:
            found = replay(
                [*relevant, self.now], excess, running, candidates, stack
            )  # the facts of before were corrected since
        return found

    def _version_at(self, row: int, at: int) -> Version | None:
        day = local_day(instant(at), self.zone)
        return next((each for each in self.versions[row] if each.covers(day)), None)

    def _above_reserve(self, row: int, at: int) -> bool:
        one = np.array([at], dtype=np.int64)
        reserve = version_steps(self.versions[row], self.zone, lambda version: version.reserve)
        return int(self.loads[row].at(one)[0]) > int(reserve.at(one)[0])

    def _candidate(self, assignment: Any, above_reserve: bool, at: int) -> Candidate:
        person = self._people.get(assignment.subject)
        seen = micros(person.last_seen_at) if person is not None and person.last_seen_at is not None else None
        return Candidate(
            int(assignment.id),
            micros(assignment.begins),
            None if seen is None else min(seen, at),
            above_reserve,
            bool(person and person.protected),
        )

    def open_assignments(self) -> list[Any]:
        """The assignments that run now."""
        at = self.snapshot.at
        return [
            each
            for rows in self._assignments.values()
            for each in rows
            if each.begins <= at and (each.ends is None or each.ends > at)
        ]

    def unit_of(self, assignment_id: int) -> Any:
        """An assignment by its number."""
        return self._by_number[assignment_id]

    @cached_property
    def _by_number(self) -> dict[int, Any]:
        return {each.id: each for rows in self._assignments.values() for each in rows}
