"""Something done to many at once, or to as many as it can be: tried together, and apart only where it has to be."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from typing import Any, TypeVar

from fair_ladle.app.assignments import ceilings
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import Problem, Refused

MOST_AT_ONCE = 1000
Subject = TypeVar("Subject")


class AtLimit(Refused):
    """The refusal of what a limit of a product (its code) stops, with its ladder; ``room`` was for so many."""

    def __init__(self, product: str, room: int, detail: str, members: dict[str, Any]):
        super().__init__(Problem("at-limit", "No room for that", 409, detail, {"ladder": members}))
        self.product, self.room = product, max(0, room)


def in_parts(units: Sequence[Subject]) -> Iterator[Sequence[Subject]]:
    """Parts of what is more than one call takes."""
    return (units[start : start + MOST_AT_ONCE] for start in range(0, len(units), MOST_AT_ONCE))


def as_many_as_fit(
    tx: Transaction, subjects: list[Subject], give: Callable[[list[Subject]], None]
) -> tuple[list[Subject], str]:
    """Give to all of these, or, where a limit stops it, to as many of the first as it lets through.

    ``give`` assigns for some of them and is called for at most MOST_AT_ONCE. Those it was given to come back, and why
    not to the others. Nothing of a try that was refused is kept; how many there was room for is what the refusal says,
    since what they give back makes room.
    """
    given, why = subjects, ""
    while given:
        before, done = dict(tx.handed), 0
        try:
            with tx.connection.begin_nested():
                for part in in_parts(given):
                    give(list(part))
                    done += len(part)
            break
        except Refused as refused:
            _as_before(tx, before, refused)
            ladder = refused.problem.more.get("ladder")
            why = refused.problem.detail if ladder is None else ladder["sentence"]
            room = done + refused.room if isinstance(refused, AtLimit) else 0
            given = given[: min(len(given) - 1, room)]
    return given, why


def _as_before(tx: Transaction, handed: dict[tuple[str, str], int], refused: Refused) -> None:
    """After a try of which nothing was kept: count as before. Above a ceiling nothing else is tried in its place."""
    if refused.problem.kind == ceilings.ABOVE:
        raise refused
    tx.handed.clear()
    tx.handed.update(handed)


def each_that_can(
    tx: Transaction,
    subjects: Sequence[Subject],
    do: Callable[[Sequence[Subject]], None],
    name: Callable[[Subject], str],
    takes: Callable[[Subject], Collection[tuple[str, str]]],
) -> tuple[list[Subject], list[tuple[Subject, str]]]:
    """Do something to all of these at once, or, where that is refused, to each half by itself: those it was done to,
    and the others with the reason. Nothing of a try that was refused is kept.

    ``name`` is their username; ``takes`` says which products somebody takes, each with the account it is taken from (or
    to, where that is all). Who is refused for their own sake, or beyond what a limit leaves, is tried after the others.
    Whom a limit of a product stops, it stops those after who take it from there as well, since what is done to others
    makes no room: they are not tried one by one.
    """
    full: dict[tuple[str, str], str] = {}

    def why_not(subject: Subject) -> str | None:
        return next((full[each] for each in takes(subject) if each in full), None)

    def split(part: list[Subject], refused: Refused) -> tuple[list[Subject], list[Subject]]:
        """Those to try first, and the rest."""
        last = {at for at, each in enumerate(part) if name(each) in refused.about}
        if isinstance(refused, AtLimit):
            takers = [at for at, each in enumerate(part) if any(code == refused.product for _, code in takes(each))]
            last = set(takers[refused.room :])
        if 0 < len(last) < len(part):
            return [each for at, each in enumerate(part) if at not in last], [part[at] for at in sorted(last)]
        half = len(part) // 2
        return part[:half], part[half:]

    done, could_not = list[Subject](), list[tuple[Subject, str]]()
    waiting = [list(subjects)]
    while waiting:
        asked = waiting.pop()
        could_not += [(each, why) for each in asked if (why := why_not(each)) is not None]
        part, before = [each for each in asked if why_not(each) is None], dict(tx.handed)
        try:
            if part:
                with tx.connection.begin_nested():
                    do(part)
            done += part
        except Refused as refused:
            _as_before(tx, before, refused)
            if len(part) > 1:
                waiting += reversed(split(part, refused))
                continue
            could_not.append((part[0], refused.problem.detail))
            if isinstance(refused, AtLimit):
                full.update({each: refused.problem.detail for each in takes(part[0]) if each[1] == refused.product})
    return done, could_not
