"""The same rules as `settling`, for one way up, on plain integers: for live admissions and for the ladder."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

SUPPLY = "supply"


@dataclass(frozen=True)
class Rung:
    """One account on the way up: its live figures and limits in grains (cap and burst None = none)."""

    account: str
    load: int
    reserve: int
    cap: int | None
    burst: int | None = None
    bursting: bool = False
    """At the cap units still go through: grace or overage, and not restricted."""

    @property
    def held(self) -> int:
        """What the account takes out of its parent's stock. An owner's rung is given no reserve."""
        return max(self.reserve, self.load)

    @property
    def cushion(self) -> int:
        """Reserved and not yet used."""
        return self.held - self.load

    @property
    def hard(self) -> int | None:
        """The load no taking may pass; None = no limit."""
        if self.cap is None or (self.bursting and self.burst is None):
            return None
        return self.cap + (self.burst or 0 if self.bursting else 0)

    def passed_on(self, change: int) -> int:
        """How what the account holds changes when its load changes by ``change`` (either sign)."""
        return max(self.reserve, self.load + change) - self.held


@dataclass(frozen=True)
class Limit:
    """One limit on the way up: the most the account at the bottom could take if nothing else stopped it."""

    name: str
    leaves: int | None
    binds: bool


@dataclass(frozen=True)
class Ladder:
    """The limits from the account upwards, and what they leave together (signed; None = they limit nothing)."""

    limits: tuple[Limit, ...]
    headroom: int | None
    bound_by: str | None


def admits(rung: Rung, change: int, promisable: int | None = None) -> bool:
    """Whether one account on the way up lets a change of its load (grains) through: only what raises it can be refused.

    ``promisable`` is what the pool may promise, for the rung of its owner.
    """
    if change <= 0:
        return True
    rooms = [limit - rung.load for limit in (rung.hard, promisable) if limit is not None]
    return all(change <= room for room in rooms)


def ladder(way_up: Sequence[Rung], promisable: int, physically_left: int) -> Ladder:
    """Headroom of the first rung; the last rung is the pool's owner.

    headroom(n) = min(hard − load, cushion + max(0, headroom(parent))) unrolled: each limit leaves
    the room at its own rung (never below 0 above the first) and the cushions below it. The least of
    these is the headroom; which of them binds the recursion says, followed upwards, the nearest at a
    tie. The physical term comes last.
    """
    found = _rooms(way_up)
    cushions = sum(rung.cushion for rung in way_up[:-1])
    room = promisable - way_up[-1].load
    found.append((SUPPLY, room if len(way_up) == 1 else max(0, room) + cushions))
    best = _tightest(way_up, room)
    assert best is not None
    if physically_left < best[1]:
        best = len(found) - 1, physically_left
        found[best[0]] = (SUPPLY, physically_left)
    return _ladder(found, best)


def within(way_up: Sequence[Rung]) -> Ladder:
    """The same as far as the last of these rungs and no further: for who does not see the pool's owner.

    The recursion begins there with hard − load; without any cap on the way nothing limits.
    """
    return _ladder(_rooms(way_up), _tightest(way_up, None))


def _rooms(way_up: Sequence[Rung]) -> list[tuple[str, int | None]]:
    found: list[tuple[str, int | None]] = []
    cushions = 0
    for place, rung in enumerate(way_up):
        room = None if rung.hard is None else rung.hard - rung.load
        if place > 0 and room is not None:
            room = max(0, room) + cushions
        found.append((rung.account, room))
        cushions += rung.cushion
    return found


def _tightest(way_up: Sequence[Rung], left: int | None) -> tuple[int, int] | None:
    """The place of the limit that binds the first rung, and the room it leaves there, by the recursion from the last
    rung down; None where nothing limits. ``left`` is what the pool can still promise (None = not to be seen), whose
    place is after the last rung."""
    best = None if left is None else (len(way_up), left)
    for place in reversed(range(len(way_up))):
        rung = way_up[place]
        if best is not None and place < len(way_up) - 1:
            best = best[0], max(0, best[1]) + rung.cushion
        own = None if rung.hard is None else rung.hard - rung.load
        if own is not None and (best is None or own <= best[1]):
            best = place, own
    return best


def _ladder(found: Sequence[tuple[str, int | None]], best: tuple[int, int] | None) -> Ladder:
    place = None if best is None else best[0]
    limits = tuple(Limit(name, room, at == place) for at, (name, room) in enumerate(found))
    return Ladder(limits, None if best is None else best[1], None if place is None else found[place][0])
