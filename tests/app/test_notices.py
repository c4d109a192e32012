"""Who is told: the account's admins and the parent's, each in one mail and once; whoever did it is not told of it."""

from __future__ import annotations

import pytest
import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.notices import service as notices_service
from fair_ladle.app.notices import usecases as notices
from fair_ladle.app.notices.service import Notice
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
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
