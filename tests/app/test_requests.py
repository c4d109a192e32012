"""Asking and answering: from a client up to the operator, each step told, granting applied like a draft."""

from __future__ import annotations

from collections.abc import Callable
from datetime import date

import pytest

from fair_ladle.app.account_admin import usecases as account_admin
from fair_ladle.app.allocations import views
from fair_ladle.app.assignments import usecases as assignments
from fair_ladle.app.notices import usecases as notices
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.requests import usecases as requests
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.app.sign_in import usecases as sign_in


@pytest.fixture
def actor(demo: Database) -> Callable[[str], Actor]:
    def of(account: str) -> Actor:
        email = f"{account.lower()}@x.example"
        demo.run(sign_in.give_sign_in, COMMAND_LINE, email, f"Admin of {account}", account, "correct-ferry-staple")
        with demo.transaction() as tx:
            found = sign_in_service.find_by_email(tx, email)
        assert found is not None
        return Actor(f"Admin of {account}", email, account, found.id)

    return of


def cap(database: Database, account: str, product: str) -> int | None:
    with database.transaction() as tx:
        version = views.cell(tx, COMMAND_LINE, account, product).version
    return None if version is None else version.cap


def told(database: Database, who: Actor) -> list[str]:
    with database.transaction() as tx:
        from fair_ladle.app.accounts import service as accounts

        return [row.subject for row in notices.shown(tx, who, accounts.on_day(tx, accounts.today(tx)))]


def test_a_request_goes_up_and_comes_back_granted_in_part(demo: Database, actor: Callable[[str], Actor]) -> None:
    client, reseller, operator = actor("HAZEL"), actor("BRAMBLE"), actor("GANNET")
    asked = demo.run(
        requests.ask, client, "HAZEL", "WATCHGLASS", 12, "cap", "Ten new drawing tables", date(2026, 12, 1)
    )
    assert demo.run(requests.requests, actor("TERN")) == [], "nobody else sees it"
    assert "Hazel & Moor Surveyors asks for 12 devices of Watchglass Guard, by 1 Dec 2026" in told(demo, reseller)
    before = cap(demo, "HAZEL", "WATCHGLASS"), cap(demo, "BRAMBLE", "WATCHGLASS")
    assert before[0] is not None and before[1] is not None
    mine = demo.run(requests.pass_up, reseller, asked.row.id, "")
    assert [step.what for step in mine.steps] == ["asked", "passed up"]
    above = next(each for each in demo.run(requests.requests, operator, waiting_only=True) if each.account == "BRAMBLE")
    assert above.to_answer and not above.to_withdraw
    first = [[each.account for each in demo.run(requests.to_answer_first, who)] for who in (operator, reseller, client)]
    assert first == [["BRAMBLE"], ["HAZEL"], []], (
        "each is asked for what is theirs to answer, not for what a reseller answers"
    )
    previewed = demo.run(requests.preview, operator, above.row.id, 10)
    assert previewed.impact is not None and previewed.impact.stopping == []
    demo.run(requests.grant, operator, above.row.id, 10, "Ten for now")
    assert cap(demo, "BRAMBLE", "WATCHGLASS") == before[1] + 10
    assert "There is room now for what Hazel & Moor Surveyors asked for of Watchglass Guard" in told(demo, reseller)
    done = demo.run(requests.grant, reseller, asked.row.id, 8)
    assert (done.row.state, done.row.granted, cap(demo, "HAZEL", "WATCHGLASS")) == ("granted", 8, before[0] + 8)
    assert told(demo, client)[0] == "Hazel & Moor Surveyors was granted 8 devices of the 12 devices of Watchglass Guard"
    assert demo.run(assignments.verify, COMMAND_LINE) == []
    with pytest.raises(Refused, match="is granted already"):
        demo.run(requests.grant, reseller, asked.row.id)


def test_who_may_ask_and_answer_what(demo: Database, actor: Callable[[str], Actor]) -> None:
    client, operator = actor("OLDQUAY"), actor("GANNET")
    for account, product, amount, reason, says in (
        ("OLDQUAY-CREW", "WATCHGLASS", 5, "why not", "You can change the allocations"),
        ("OLDQUAY", "CHARTROOM", 5, "why not", "there is no parent to ask"),
        ("TERN", "DISPATCH", 5, "why not", "There is no account 'TERN' here"),
        ("OLDQUAY", "WATCHGLASS", 0, "why not", "more than 0"),
        ("OLDQUAY", "WATCHGLASS", 5, " ", "Give a reason"),
        ("OLDQUAY", "WATCHGLASS", -500, "too many", "less than that to give back"),
    ):
        with pytest.raises(Refused, match=says):
            demo.run(requests.ask, client, account, product, amount, "cap", reason, None)
    asked = demo.run(requests.ask, client, "OLDQUAY", "DISPATCH", 60, "reserve", "A call centre", None)
    with pytest.raises(Refused, match="its parent's to answer"):
        demo.run(requests.grant, client, asked.row.id)
    with pytest.raises(Refused, match="short by"):
        demo.run(requests.grant, operator, asked.row.id)
    with pytest.raises(Refused, match="buys Fieldbook Dispatch itself"):
        demo.run(requests.pass_up, operator, asked.row.id, "")
    with pytest.raises(Refused, match="Give a reason"):
        demo.run(requests.refuse, operator, asked.row.id, "")
    assert demo.run(requests.refuse, operator, asked.row.id, "Not before spring").row.state == "refused"
    back = demo.run(requests.ask, client, "OLDQUAY", "WATCHGLASS", -5, "cap", "Yard closed", None)
    assert demo.run(requests.withdraw, client, back.row.id).row.state == "withdrawn"


def test_names_and_contacts(demo: Database, actor: Callable[[str], Actor]) -> None:
    who = actor("BRAMBLE")
    accounts, row = demo.run(account_admin.edit, who, "HAZEL", "Hazel Surveyors", "ada@hazel.example", None)
    assert accounts.name(row) == "Hazel Surveyors" and account_admin.missing_contacts(accounts.facts[row]) == [
        "Hazel Surveyors has no billing contact: no one receives its statements."
    ]
    for email in ("no address", "<script>@x", "a@b, c@d"):
        with pytest.raises(Refused, match="is no e-mail address"):
            demo.run(account_admin.edit, who, "HAZEL", "Hazel", email, None)
    with pytest.raises(Refused, match="no account 'TERN' here"):
        demo.run(account_admin.edit, who, "TERN", "Mine now", None, None)
