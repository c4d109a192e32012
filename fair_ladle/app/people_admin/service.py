"""Usernames for people. Trusted: the caller has judged scope."""

from __future__ import annotations

import itertools
import re
import unicodedata
from collections.abc import Collection, Sequence

from fair_ladle.app.people_admin import store
from fair_ladle.app.plumbing.database import Transaction


def usernames_for(tx: Transaction, names: Sequence[str], but_not: Collection[str] = ()) -> list[str]:
    """first.last in small letters for each name, with a number where that is taken."""
    bases = []
    for name in names:
        plain = unicodedata.normalize("NFKD", name).encode("ascii", "ignore").decode().lower()
        bases.append(".".join(re.findall(r"[a-z0-9]+", plain))[:100] or "person")
    taken, found = set(but_not) | store.usernames_like(tx.connection, bases), []
    for base in bases:
        free = next(
            each
            for each in itertools.chain([base], (f"{base}{number}" for number in itertools.count(2)))
            if each not in taken
        )
        taken.add(free)
        found.append(free)
    return found
