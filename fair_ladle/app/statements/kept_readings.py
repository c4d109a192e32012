"""What is kept of a product's month of every account and day, so that late facts have the accounts on their ways up
worked out again and no others."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
import zstandard

from fair_ladle.app.statements.months import ProductMonth
from fair_ladle.core.tree import Ints

KINDS = 4
OWN, BELOW, RESERVED_BELOW, CUSHION = range(KINDS)
BLOCK, CORRECTIONS = 1_024, -1
"""So many accounts, by number, are kept together; what was corrected since is a block of its own."""


def block_of(account_id: int) -> int:
    """With which others an account (by number) is kept."""
    return account_id // BLOCK


@dataclass(frozen=True)
class AccountDays:
    """Accounts (by number, ascending) and their days in grain-seconds, kinds × accounts × days: own, Σ own of those
    below in the pool, what load has beyond both, and what is held beyond load."""

    ids: Ints
    figures: Ints

    @staticmethod
    def of(month: ProductMonth) -> AccountDays:
        """What a month was read of every account."""
        ids = np.unique(np.concatenate([segment.accounts.ids for segment in month.segments]))
        figures = np.zeros((KINDS, len(ids), len(month.days)), dtype=np.int64)
        begin = 0
        for segment in month.segments:
            read = segment.readings
            end = begin + len(read.days)
            kinds = (read.own, read.used - read.own, read.settled.load - read.used, read.settled.cushion)
            places = np.searchsorted(ids, segment.accounts.ids)
            for kind, each in enumerate(kinds):
                figures[kind, places, begin:end] = each
            begin = end
        return AccountDays(ids, figures)

    def over(self, before: AccountDays | None) -> AccountDays:
        """These in place of what was of the same accounts, and the others."""
        if before is None:
            return self
        stays = ~np.isin(before.ids, self.ids)
        ids = np.concatenate([before.ids[stays], self.ids])
        figures, order = np.concatenate([before.figures[:, stays], self.figures], axis=1), np.argsort(ids)
        return AccountDays(ids[order], figures[:, order])

    def packed(self) -> bytes:
        """As they are kept together."""
        return _packed(self.ids, self.figures)

    def packed_by_block(self) -> dict[int, bytes]:
        """As they are kept by block."""
        cuts = np.flatnonzero(np.diff(self.ids // BLOCK)) + 1
        parts = zip(np.split(self.ids, cuts), np.split(self.figures, cuts, axis=1), strict=True)
        return {block_of(int(ids[0])): _packed(ids, figures) for ids, figures in parts}


@dataclass(frozen=True)
class _Kind:
    """Of one kind the accounts of a block (by their places) that have any, as multiples of ``unit``, each day as by how
    much it differs from the one before: accounts × days."""

    there: Ints
    unit: int
    steps: Ints


@dataclass(frozen=True)
class KeptReadings:
    """What is kept of some blocks of accounts, as it was read for the whole month and as it was corrected since."""

    blocks: Sequence[tuple[Ints, Sequence[_Kind]]]
    days: int
    corrections: AccountDays | None = None

    @staticmethod
    def unpacked(packed: Mapping[int, bytes], days: int) -> KeptReadings:
        """Those of some blocks; what was corrected is one of them."""
        blocks = [_unpacked(packed[each], days) for each in sorted(packed) if each != CORRECTIONS]
        read = KeptReadings(blocks, days)
        if CORRECTIONS not in packed:
            return read
        corrected = KeptReadings([_unpacked(packed[CORRECTIONS], days)], days)
        ids = corrected.blocks[0][0]
        return KeptReadings(blocks, days, AccountDays(ids, corrected.of_accounts(ids)))

    def corrected(self, now: AccountDays) -> KeptReadings:
        """The same with these accounts as they are now."""
        return KeptReadings(self.blocks, self.days, now.over(self.corrections))

    def of_accounts(self, ids: Ints) -> Ints:
        """The figures of these accounts, 0 where there is nothing: kinds × accounts × days."""
        found = np.zeros((KINDS, len(ids), self.days), dtype=np.int64)
        for theirs, kinds in self.blocks:
            wanted, mine = _same(ids, theirs)
            for kind, each in enumerate(kinds):
                some, places = _same(mine, each.there)
                found[kind, wanted[some]] = np.cumsum(each.steps[places], axis=1, dtype=np.int64) * each.unit
        if self.corrections is not None:
            wanted, mine = _same(ids, self.corrections.ids)
            found[:, wanted] = self.corrections.figures[:, mine]
        return found

    def sums(self, kinds: Sequence[int], columns: slice) -> tuple[Ints, Ints]:
        """All accounts, by number, and the sum of these kinds of their figures over some days."""
        day = np.arange(self.days)
        counts = np.maximum(0, columns.stop - np.maximum(columns.start, day))  # how often a day's step is in the sum
        ids = np.concatenate([np.empty(0, dtype=np.int64), *(theirs for theirs, _ in self.blocks)])
        found, first = np.zeros(len(ids), dtype=np.int64), 0
        for theirs, of in self.blocks:
            for kind in kinds:
                found[first + of[kind].there] += of[kind].steps @ counts * of[kind].unit
            first += len(theirs)
        if self.corrections is None:
            return ids, found
        stays, now = ~np.isin(ids, self.corrections.ids), self.corrections.figures[list(kinds), :, columns]
        return np.concatenate([ids[stays], self.corrections.ids]), np.concatenate([found[stays], now.sum(axis=(0, 2))])


def _same(these: Ints, others: Ints) -> tuple[Ints, Ints]:
    """Where the numbers that are in both stand: in the first, and in the second, which ascends."""
    if not len(others):
        return np.empty(0, dtype=np.int64), np.empty(0, dtype=np.int64)
    places = np.minimum(np.searchsorted(others, these), len(others) - 1)
    there = np.flatnonzero(others[places] == these)
    return there, places[there]


def _packed(ids: Ints, figures: Ints) -> bytes:
    """Of each kind the accounts (by their places) that have any, as multiples of what all are multiples of, and by how
    much each day differs from the one before; in as few bytes as that fits into."""
    head, arrays = [], [ids]
    for each in figures:
        there = np.flatnonzero(each.any(axis=1))
        unit = max(int(np.gcd.reduce(each[there], axis=None)), 1) if len(there) else 1
        steps = np.diff(each[there] // unit, axis=1, prepend=0)
        steps = steps.astype(_narrow(steps))
        head.append([len(there), unit, steps.dtype.str])
        arrays += [there, steps]
    said = json.dumps([len(ids), head]).encode()
    return zstandard.ZstdCompressor(level=1).compress(b"\n".join([said, b"".join(each.tobytes() for each in arrays)]))


def _narrow(whole: Ints) -> np.dtype[Any]:
    most = max(-int(whole.min(initial=0)), int(whole.max(initial=0)) + 1)
    return np.min_scalar_type(-most)


def _unpacked(content: bytes, days: int) -> tuple[Ints, list[_Kind]]:
    said, _, packed = zstandard.ZstdDecompressor().decompress(content).partition(b"\n")
    count, head = json.loads(said)
    ids, kinds = np.frombuffer(packed, np.int64, count), []
    at = ids.nbytes
    for some, unit, width in head:
        there = np.frombuffer(packed, np.int64, some, at)
        steps = np.frombuffer(packed, width, some * days, at + there.nbytes).reshape(some, days)
        at += there.nbytes + steps.nbytes
        kinds.append(_Kind(there, unit, steps))
    return ids, kinds
