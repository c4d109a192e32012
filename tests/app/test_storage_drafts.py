"""Limits per person and shared folders by way of a draft: on their day, whole or not at all, and back again."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from datetime import timedelta
from threading import Barrier
from typing import Any

import pytest
import sqlalchemy as sa

from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import Change, FolderChange, LimitTerms, PersonLimit
from fair_ladle.app.people_admin import groups
from fair_ladle.app.people_admin.groups import GroupTerms
from fair_ladle.app.personal_storage import usecases as personal_storage
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.permissions import ROLES
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.storage import folders
from fair_ladle.app.storage.folders import FolderTerms
from fair_ladle.jobs import ApplyDueDrafts
from tests.app.test_drafts import TOMORROW, actor, allocation, kept
from tests.conftest import do_job

__all__ = ["actor"]
P, MAPS = "DEEPSHELF", ("DEEPSHELF", "OLDQUAY-CREW", "MAPS")
OPERATOR = Actor("Ines", "", "GANNET")


def limit(account: str, gb: int | None, was: LimitTerms | None = None, **more: Any) -> PersonLimit:
    terms = None if gb is None else LimitTerms(grains=gb * 1000, **{k: v for k, v in more.items() if k != "group"})
    return PersonLimit(account=account, group=more.get("group"), product=P, terms=terms, was=was)


def folder(state: Any, was: Any = "open") -> FolderChange:
    return FolderChange(account="OLDQUAY-CREW", product=P, folder="MAPS", state=state, was=was)


def says(database: Database, account: str, group: str | None = None) -> int | None:
    found = database.run(personal_storage.layer_limit, OPERATOR, account, group, P)
    return None if found is None else found.grains // 1000


@pytest.fixture
def stored(demo: Database) -> Database:
    demo.run(folders.put, OPERATOR, *MAPS, FolderTerms("Maps", None, None, False))
    demo.run(groups.put, OPERATOR, GroupTerms("OLDQUAY", "bosses", "Bosses", 'title eq "Manager"', (), 10))
    return demo


def test_limits_and_folders_wait_for_their_day_are_told_and_go_back(stored: Database, actor: Any) -> None:
    who = actor("GANNET")
    stored.run(personal_storage.set_limit, OPERATOR, "OLDQUAY", None, P, "30")
    changes: list[Change] = [
        limit("OLDQUAY", 20, LimitTerms(grains=30_000), at_limit="grace", grace_days=7),
        limit("OLDQUAY", 60, group="bosses", at_limit="stop"),
        folder("deleted"),
    ]
    draft = kept(stored, who, *changes)
    stored.run(drafts.schedule, who, draft.row.id, draft.row.revision, TOMORROW)
    do_job(stored, ApplyDueDrafts())
    assert (says(stored, "OLDQUAY"), stored.run(folders.state, OPERATOR, *MAPS)) == (30, "open"), "not before its day"
    stored.clock.shift += timedelta(days=1)
    do_job(stored, ApplyDueDrafts())
    assert stored.run(drafts.get, who, draft.row.id).row.state == "applied"
    assert (says(stored, "OLDQUAY"), says(stored, "OLDQUAY", "bosses")) == (20, 60)
    assert stored.run(folders.state, OPERATOR, *MAPS) == "deleted"
    with stored.engine.connect() as connection:
        told = connection.scalars(sa.text("SELECT text FROM notices ORDER BY text")).all()
        logged = set(connection.scalars(sa.text("SELECT action FROM log_entries ORDER BY id DESC LIMIT 4")))
    assert "\n".join(told).splitlines() == [
        "Deepshelf Storage: each person can store 20 GB (30 GB before); beyond it new writes are stopped after 7 days.",
        "Deepshelf Storage: each person of group Bosses can store 60 GB (no limit before); beyond it new writes are"
        " stopped.",
        "Deepshelf Storage: shared folder MAPS is deleted after 30 days, unless it is opened before.",
    ]
    assert {"storage limit per person", "shared folder to be deleted"} <= logged

    back = stored.run(drafts.reverse, who, draft.row.id)
    stored.run(drafts.apply, who, back.row.id, back.row.revision)
    assert (says(stored, "OLDQUAY"), says(stored, "OLDQUAY", "bosses")) == (30, None)
    found = stored.run(personal_storage.layer_limit, OPERATOR, "OLDQUAY", None, P)
    assert found is not None and found.at.what == "tell"
    assert stored.run(folders.state, OPERATOR, *MAPS) == "open"


@pytest.mark.parametrize(
    ("change", "wrong"),
    [
        (limit("OLDQUAY", 20, LimitTerms(grains=9)), "changed meanwhile"),
        (limit("OLDQUAY", 20, group="nobody"), "nobody"),
        (limit("OLDQUAY", 20).model_copy(update={"product": "WATCHGLASS"}), "is not storage"),
        (folder("archived", was="deleted"), "meanwhile"),
        (folder("archived").model_copy(update={"folder": "NONE"}), "NONE"),
        (limit("TERN", 20), "TERN"),
    ],
)
def test_what_cannot_be_is_said_and_nothing_of_the_draft_is_done(
    stored: Database, actor: Any, change: Change, wrong: str
) -> None:
    who = actor("OLDQUAY")
    draft = kept(stored, who, allocation(stored, "OLDQUAY-ENGINEERING", "WATCHGLASS", cap=18), change)
    previewed = stored.snapshot(drafts.preview, who, draft.changes)
    assert [each.kind for each in previewed.faults] == [change.kind] and wrong in previewed.faults[0].detail
    with pytest.raises(Refused, match=wrong):
        stored.run(drafts.apply, who, draft.row.id, draft.row.revision)
    there = allocation(stored, "OLDQUAY-ENGINEERING", "WATCHGLASS").was
    assert there is not None and there.cap == 14
    assert (says(stored, "OLDQUAY"), stored.run(folders.state, OPERATOR, *MAPS)) == (None, "open")


def test_who_drafts_allocations_alone_sets_no_limit(stored: Database, actor: Any) -> None:
    who = actor("OLDQUAY")
    steward = Actor(who.name, who.email, "OLDQUAY", who.sign_in_id, "steward", ROLES["steward"].permissions)
    with pytest.raises(Refused, match="storage limits"):
        kept(stored, steward, limit("OLDQUAY", 20))


def test_of_two_at_once_the_second_is_refused(stored: Database) -> None:
    """Both judged by what is there before either has written."""
    both = Barrier(2)

    def apply(gb: int) -> str:
        def change(tx: Transaction) -> None:
            drafts.preview(tx, COMMAND_LINE, [limit("OLDQUAY", gb)])
            if not both.broken:
                both.wait(10)
            drafts.apply_changes(tx, COMMAND_LINE, [limit("OLDQUAY", gb)], f"{gb} GB")

        try:
            stored.run(change)
        except Refused as refused:
            return refused.problem.detail
        return "done"

    with ThreadPoolExecutor(2) as pool:
        said = sorted(pool.map(apply, (20, 25)))
    assert sum(each == "done" for each in said) == 1, said
    assert says(stored, "OLDQUAY") in (20, 25)
