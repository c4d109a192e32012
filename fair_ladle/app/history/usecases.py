"""The log of one's branch as acts: what was written in one transaction is one act, however many it concerned."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date, datetime
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.history.wording import Names, detail, sentence
from fair_ladle.app.log import usecases as log
from fair_ladle.app.log.rows import EntryRecord
from fair_ladle.app.log.usecases import LogPage, Sought
from fair_ladle.app.people import service as people_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools import service as pools_service

AUTOMATIC = {"schedule", "rules"}
"""Who acts by itself, a transaction an account: what they do in one minute is one act."""
MOST_READ = 3000
"""Entries read for a page of acts; an act with more than that ends there and goes on as the next one."""
MOST_COUNTED = 20_000


@dataclass
class Act:
    """Entries that were written together, newest first."""

    key: tuple[str, datetime]
    entries: list[Any] = field(default_factory=list)


@dataclass(frozen=True)
class ToldAct:
    """An act in words: the number of its newest and its oldest entry, how many there are, and the accounts that they
    are about (row, or -1 for the installation)."""

    newest: Any
    oldest: int
    count: int
    sentence: str
    detail: str
    rows: list[int]
    tells_how: bool


@dataclass(frozen=True)
class Acts:
    """Acts newest first; the entry before which the next page begins, None at the end; who has written any lately, and
    of which kinds those are."""

    acts: list[ToldAct]
    before: int | None
    page: LogPage
    actors: list[str]
    kinds: list[str]


def acts(tx: Transaction, actor: Actor, sought: Sought, before: int | None, limit: int) -> Acts:
    """The newest acts of the actor's branch that are looked for, each in a sentence."""
    found: list[Act] = []
    read, more, page = 0, True, None
    for page in log.every(tx, actor, sought, before):
        for entry in page.entries:
            key = _key(entry)
            if not found or found[-1].key != key:
                if len(found) == limit:
                    break
                found.append(Act(key))
            found[-1].entries.append(entry)
            before = entry.id
        else:
            read += len(page.entries)
            more = len(page.entries) == log.AT_ONCE
            if more and read < MOST_READ:
                continue
        break
    assert page is not None
    names = _names(tx, actor, page, [entry for act in found for entry in act.entries])
    told = [_told(act.entries, names, page) for act in found]
    return Acts(told, before if more else None, page, *log.lately(tx, actor, sought.account))


def entries_of(
    tx: Transaction, actor: Actor, sought: Sought, newest: int, oldest: int, limit: int
) -> tuple[LogPage, list[tuple[Any, str, str]]]:
    """The entries from one number down to another that are looked for, each with its sentence and what it changed."""
    page = next(iter(log.every(tx, actor, sought, newest + 1, limit)))
    entries = [each for each in page.entries if each.id >= oldest]
    names = _names(tx, actor, page, entries)
    return page, [(each, sentence([each], names), detail(each, names)) for each in entries]


def by_day(tx: Transaction, actor: Actor, sought: Sought) -> tuple[dict[date, int], bool]:
    """How many of the newest entries that are looked for were written on each day of the operator's zone; whether there
    are older ones that were not counted."""
    zone = accounts_service.zone(tx)
    instants = log.instants(tx, actor, sought, MOST_COUNTED)
    return dict(Counter(each.astimezone(zone).date() for each in instants)), len(instants) == MOST_COUNTED


def _key(entry: EntryRecord) -> tuple[str, datetime]:
    at = entry.at.replace(second=0, microsecond=0) if entry.actor in AUTOMATIC else entry.at
    return entry.actor, at


def _told(entries: Sequence[Any], names: Names, page: LogPage) -> ToldAct:
    newest = entries[0]
    rows = dict.fromkeys(page.accounts.row_of_id.get(each.account_id, -1) for each in entries)
    return ToldAct(
        newest,
        entries[-1].id,
        len(entries),
        sentence(entries, names),
        detail(newest, names) if len(entries) == 1 else "",
        list(rows),
        page.tells_how(newest),
    )


def _names(tx: Transaction, actor: Actor, page: LogPage, entries: Sequence[Any]) -> Names:
    accounts = page.accounts
    top = accounts_service.top_row(accounts, actor)
    subjects, ids = {each.subject for each in entries}, {each.account_id for each in entries}
    subjects |= {str((each.after or {}).get(name, "")) for each in entries for name in ("to", "after")}
    people = people_service.by_username(tx, subjects)
    rows = [accounts.tree.row(code) for code in subjects if code in accounts.tree]
    rows += [row for each in ids if (row := accounts.row_of_id.get(each)) is not None]
    mine = [row for row in rows if top in accounts.tree.path_up(row)]
    named = {each.username: accounts.row_of_id.get(each.account_id) for each in people.values()}
    return Names(
        {each.code: each.name for each in pools_service.products(tx)},
        {accounts.tree.codes[row]: accounts.full_name(row, top) for row in mine},
        {int(accounts.ids[row]): accounts.full_name(row, top) for row in mine},
        {
            name: people[name].display_name
            for name, row in named.items()
            if row is not None and top in accounts.tree.path_up(row)
        },
    )
