"""Which units are on hold while an account is restricted: the excess alone, in a given order, the last freed first.

Replayed from the facts, so that whoever replays the same history gets the same holds.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace


@dataclass(frozen=True)
class Candidate:
    """A unit in use: its assignment, since when (µs), when its subject was last seen (None = never), and whether
    its account stands above its own reserve and its person is protected."""

    assignment: int
    begins: int
    last_seen: int | None
    above_reserve: bool
    protected: bool


@dataclass(frozen=True)
class Hold:
    """A unit on hold from one instant to another (µs); ``ends`` None = still. ``place`` is how many were on hold
    before it."""

    assignment: int
    place: int
    begins: int
    ends: int | None


def in_order(candidates: Sequence[Candidate]) -> list[Candidate]:
    """Who is put on hold first: accounts above their own reserve, among them never used, longest unused, newest;
    protected people last."""
    return sorted(
        candidates,
        key=lambda each: (
            each.protected,
            not each.above_reserve,
            each.last_seen is not None,
            each.last_seen or 0,
            -each.begins,
            each.assignment,
        ),
    )


def replay(
    events: Sequence[int],
    excess: Callable[[int], int],
    open_at: Callable[[int], Sequence[int]],
    candidates: Callable[[int], Sequence[Candidate]],
    stack: Sequence[Hold] = (),
) -> list[Hold]:
    """The holds of one account over the instants at which anything changed; ``stack`` has what is on hold before them.

    ``excess(at)`` is how many units are to be on hold, ``open_at(at)`` which of the assignments put on hold so far
    still run, ``candidates(at)`` what could be put on hold. A hold ends when its unit is released, or when there is
    room again, the last put on hold first.
    """
    now = sorted(stack, key=lambda hold: (hold.begins, hold.place))
    done: list[Hold] = []
    for at in events:
        running = set(open_at(at))
        done.extend(replace(hold, ends=at) for hold in now if hold.assignment not in running)
        now = [hold for hold in now if hold.assignment in running]
        wanted = excess(at)
        while len(now) > wanted:
            done.append(replace(now.pop(), ends=at))
        if len(now) < wanted:
            held = {hold.assignment for hold in now}
            for candidate in in_order([each for each in candidates(at) if each.assignment not in held])[
                : wanted - len(now)
            ]:
                now.append(Hold(candidate.assignment, len(now), at, None))
    return done + now
