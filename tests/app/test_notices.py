"""Who is told: the account's admins and the parent's, each in one mail and once; whoever did it is not told of it."""

from __future__ import annotations

from datetime import timedelta

import pytest
import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.notices import service as notices_service
from fair_ladle.app.notices import usecases as notices
from fair_ladle.app.notices.rows import NoticeRecord
from fair_ladle.app.notices.service import Notice
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.sign_in import usecases as sign_in

OPERATOR, CLIENT, INES = "admin.gannet@gannet.example", "admin.oldquay@oldquay.example", "ines@gannet.example"


def told(database: Database, *what: tuple[str, str, bool], but_not: str = "") -> dict[str, str]:
    """The subjects of the mails that telling these (key, account, the parent's too) writes, by address."""
    with database.transaction() as tx:
        accounts = accounts_service.known(tx)
        before = tx.connection.scalar(sa.text("SELECT COALESCE(MAX(id), 0) FROM outbox"))
        notices_service.notify(
            tx,
            accounts,
            [
                Notice(key, "cap", int(accounts.ids[accounts.tree.row(code)]), f"{key} of {code}", "…", None, too)
                for key, code, too in what
            ],
            but_not,
        )
        return {
            row.to_address: row.subject
            for row in tx.connection.execute(
                sa.text("SELECT to_address, subject FROM outbox WHERE id > :before ORDER BY id"), {"before": before}
            )
        }


@pytest.mark.parametrize(
    ("account", "parent_too", "to"),
    [
        ("OLDQUAY", True, [CLIENT, OPERATOR]),
        ("OLDQUAY", False, [CLIENT]),
        ("GANNET", True, [OPERATOR]),
        ("OLDQUAY-CREW", True, [CLIENT]),
        ("OLDQUAY-CREW", False, []),
    ],
)
def test_contacts_are_told_where_nobody_signs_in(
    shared_demo: Database, account: str, parent_too: bool, to: list[str]
) -> None:
    key = f"{account} {parent_too}"
    assert list(told(shared_demo, (key, account, parent_too))) == to
    with shared_demo.transaction() as tx:
        shown = [each.key for each in notices.shown(tx, COMMAND_LINE, accounts_service.known(tx), account)]
    assert key in shown, "in Today for whoever runs the branch, mail or not"
    assert told(shared_demo, (key, account, parent_too)) == {}, "never twice for the same"


def test_who_runs_an_account_is_told_instead_of_its_contact_and_who_did_it_is_not(demo: Database) -> None:
    demo.run(sign_in.give_sign_in, COMMAND_LINE, INES, "Ines Vane", "GANNET", "correct-ferry-staple")
    assert told(demo, ("one", "OLDQUAY", True)) == {CLIENT: "one of OLDQUAY", INES: "one of OLDQUAY"}
    assert told(demo, ("two", "OLDQUAY", True), but_not=INES) == {CLIENT: "two of OLDQUAY"}
    assert told(demo, ("three", "OLDQUAY", True), ("four", "TERN", True)) == {
        CLIENT: "three of OLDQUAY",
        INES: "2 notices: three of OLDQUAY …",
        "admin.tern@tern.example": "four of TERN",
    }, "one mail each for all of a run"
    with demo.transaction() as tx:
        mine = [each.key for each in notices.shown(tx, Actor("Tilde", "", "TERN"), accounts_service.known(tx))]
    assert mine == ["four"], "another client's notices are not theirs to see"


def test_notices_come_by_pages_and_all_that_were_looked_at_are_put_away(demo: Database) -> None:
    demo.run(sign_in.give_sign_in, COMMAND_LINE, INES, "Ines Vane", "GANNET", "correct-ferry-staple")
    keys = [f"{n:03}" for n in range(notices.PAGE + 5)]
    for some in (keys[:30], keys[30:]):
        told(demo, *((each, "TERN", False) for each in some))
    with demo.transaction() as tx:
        accounts = accounts_service.known(tx)
        ines = Actor("Ines", INES, "GANNET", sign_in_id=tx.connection.scalar(sa.text("SELECT MAX(id) FROM sign_ins")))

        def shown(who: Actor, before: int | None = None) -> list[NoticeRecord]:
            return notices.shown(tx, who, accounts, "TERN", before=before)

        first = shown(ines)
        older = shown(ines, first[-1].id)
        assert [each.key for each in (*first, *older)] == keys[::-1]
        assert notices.count(tx, ines, accounts, with_caps=True) == len(keys)
        notices.put_all_away(tx, ines, first[10].id, with_caps=True)
        assert [each.key for each in shown(ines)] == keys[:-11:-1], "what came since was not looked at"
        notices.put_all_away(tx, ines, first[0].id, with_caps=True)
        assert shown(ines) == [] and notices.count(tx, ines, accounts, with_caps=True) == 0
        assert len(shown(Actor("Tilde", "", "TERN"))) == notices.PAGE, "put away by one, not by all"


def test_what_was_told_before_an_account_came_to_a_branch_is_not_for_who_runs_it(demo: Database) -> None:
    told(demo, ("before", "TERN-LETTINGS", False))
    demo.clock.set_to(demo.clock.now() + timedelta(days=1))
    with demo.transaction() as tx:
        accounts_service.move(tx, "TERN-LETTINGS", "OLDQUAY")
        accounts_service.structure_changed(tx)
    demo.clock.set_to(demo.clock.now() + timedelta(days=1))
    told(demo, ("after", "TERN-LETTINGS", False))
    with demo.transaction() as tx:
        accounts, maren = accounts_service.known(tx), Actor("Maren", "", "OLDQUAY")
        assert [each.key for each in notices.shown(tx, maren, accounts, "TERN-LETTINGS")] == ["after"]
        assert notices.count(tx, maren, accounts, with_caps=True) == len(notices.shown(tx, maren, accounts))
        _, before = notices.shown(tx, COMMAND_LINE, accounts, "TERN-LETTINGS")
        assert before.key == "before"
        with pytest.raises(Refused, match="no notice"):
            notices.shown(tx, maren, accounts, before=before.id)
