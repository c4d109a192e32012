"""What is kept of a product's month of every account and day, so that late facts have the accounts on their ways up
worked out again and no others."""

from __future__ import annotations

import json
import zlib
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

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
class KeptReadings:
    """Accounts (by number, ascending) and their days in grain-seconds, kinds × accounts × days: own, Σ own of those
    below in the pool, what load has beyond both, and what is held beyond load; and what was corrected of it since."""

    ids: Ints
    figures: Ints
    corrections: KeptReadings | None = None

    @staticmethod
    def of(month: ProductMonth) -> KeptReadings:
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
        return KeptReadings(ids, figures)

    def of_accounts(self, ids: Ints) -> Ints:
        """The figures of these accounts, 0 where there is nothing: kinds × accounts × days."""
        found = np.zeros((KINDS, len(ids), self.figures.shape[2]), dtype=np.int64)
        for layer in filter(None, (self, self.corrections)):
            if len(layer.ids):
                places = np.minimum(np.searchsorted(layer.ids, ids), len(layer.ids) - 1)
                there = layer.ids[places] == ids
                found[:, there] = layer.figures[:, places[there]]
        return found

    def together(self, kinds: Sequence[int], columns: slice) -> tuple[Ints, Ints]:
        """All accounts, in no order, and the sum of these kinds of their figures on some days: accounts × days."""
        mine = np.add.reduce([self.figures[kind, :, columns] for kind in kinds])
        if self.corrections is None:
            return self.ids, mine
        stays = ~np.isin(self.ids, self.corrections.ids)
        ids, theirs = self.corrections.together(kinds, columns)
        return np.concatenate([self.ids[stays], ids]), np.concatenate([mine[stays], theirs])

    def corrected(self, now: KeptReadings) -> KeptReadings:
        """The same with these accounts as they are now."""
        before = self.corrections
        if before is None:
            return KeptReadings(self.ids, self.figures, now)
        stays = ~np.isin(before.ids, now.ids)
        ids = np.concatenate([before.ids[stays], now.ids])
        figures, order = np.concatenate([before.figures[:, stays], now.figures], axis=1), np.argsort(ids)
        return KeptReadings(self.ids, self.figures, KeptReadings(ids[order], figures[:, order]))

    def packed(self) -> dict[int, bytes]:
        """As they are kept, by block, without what was corrected since."""
        cuts = np.flatnonzero(np.diff(self.ids // BLOCK)) + 1
        parts = zip(np.split(self.ids, cuts), np.split(self.figures, cuts, axis=1), strict=True)
        return {block_of(int(ids[0])): _packed(ids, figures) for ids, figures in parts}

    def packed_corrections(self) -> bytes:
        """As what was corrected since is kept."""
        assert self.corrections is not None
        return _packed(self.corrections.ids, self.corrections.figures)

    @staticmethod
    def unpacked(blocks: Mapping[int, bytes], days: int) -> KeptReadings:
        """Those of some blocks."""
        corrections = _unpacked([blocks[CORRECTIONS]], days) if CORRECTIONS in blocks else None
        whole = _unpacked([blocks[each] for each in sorted(blocks) if each != CORRECTIONS], days)
        return KeptReadings(*whole, None if corrections is None else KeptReadings(*corrections))


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
    return zlib.compress(b"\n".join([said, b"".join(each.tobytes() for each in arrays)]), 1)


def _narrow(whole: Ints) -> np.dtype[Any]:
    most = max(-int(whole.min(initial=0)), int(whole.max(initial=0)) + 1)
    return np.min_scalar_type(-most)


def _unpacked(blocks: Iterable[bytes], days: int) -> tuple[Ints, Ints]:
    parts = []
    for content in blocks:
        said, _, packed = zlib.decompress(content).partition(b"\n")
        count, head = json.loads(said)
        parts.append((np.frombuffer(packed, np.int64, count), head, packed))
    ids = np.concatenate([np.empty(0, dtype=np.int64), *(mine for mine, _, _ in parts)])
    figures, first = np.zeros((KINDS, len(ids), days), dtype=np.int64), 0
    for mine, head, packed in parts:
        at = mine.nbytes
        for kind, (some, unit, width) in enumerate(head):
            there = np.frombuffer(packed, np.int64, some, at)
            steps = np.frombuffer(packed, width, some * days, at + there.nbytes).reshape(some, days)
            at += there.nbytes + steps.nbytes
            figures[kind, first + there] = np.cumsum(steps, axis=1, dtype=np.int64) * unit
        first += len(mine)
    return ids, figures
