"""Limits per person and shared folders as a draft changes them: checked with nothing locked, and written only where
they are still what the change was made on."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace

from fair_ladle.app.drafts.change_types import Change, FolderChange, LimitTerms, PersonLimit
from fair_ladle.app.drafts.evaluate import DraftFault
from fair_ladle.app.log.service import Entry
from fair_ladle.app.personal_storage import usecases as personal_storage
from fair_ladle.app.personal_storage.usecases import AtLimit, LayerLimit
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import Refused, conflict
from fair_ladle.app.storage import folders


def faults(tx: Transaction, actor: Actor, changes: Sequence[Change]) -> list[DraftFault]:
    """What is wrong with those of these changes that are about storage, one fault a change."""
    tx, found = replace(tx, kept={}), []  # what all layers set is read once
    for change in changes:
        try:
            if isinstance(change, PersonLimit):
                _judge_limit(tx, actor, change)
            elif isinstance(change, FolderChange):
                _judge_folder(tx, actor, change)
        except Refused as refused:
            found.append(DraftFault(change.kind, change.key, refused.problem.detail))
    return found


def _judge_limit(tx: Transaction, actor: Actor, change: PersonLimit) -> None:
    there = personal_storage.layer_limit(tx, actor, change.account, change.group, change.product)
    if there != _limit(change.was):
        raise conflict("This limit was changed meanwhile. Remove it from the draft and set it again.")


def _judge_folder(tx: Transaction, actor: Actor, change: FolderChange) -> None:
    if folders.state(tx, actor, change.product, change.account, change.folder) != change.was:
        raise conflict(f"{change.folder} was archived, opened or deleted meanwhile. Remove it from the draft.")


def lock(tx: Transaction, actor: Actor, changes: Sequence[Change]) -> None:
    """Lock the folders that changes are about, in one order; those out of sight are a fault later."""
    for change in sorted((each for each in changes if isinstance(each, FolderChange)), key=lambda each: each.key):
        with suppress(Refused):
            folders.lock(tx, actor, change.product, change.account, change.folder)


def write(tx: Transaction, actor: Actor, change: PersonLimit | FolderChange) -> Entry:
    """Write a change, and what the log says of it; refused where what it was made on is there no longer. A limit's row
    is locked by being written, after people and counters."""
    if isinstance(change, PersonLimit):
        return personal_storage.exchange(
            tx, actor, change.account, change.group, change.product, _limit(change.was), _limit(change.terms)
        )
    return folders.exchange(tx, actor, change.product, change.account, change.folder, change.was, change.state)


def _limit(terms: LimitTerms | None) -> LayerLimit | None:
    if terms is None:
        return None
    return LayerLimit(terms.grains, AtLimit(terms.at_limit, terms.tell_at, terms.grace_days))
