"""Joining by an e-mail domain: proven by mail, at once or after approval; and one person in two accounts."""

from __future__ import annotations

import re
from datetime import timedelta

import pytest
import sqlalchemy as sa

from fair_ladle.app.people_admin import domains, joining, listing, store
from fair_ladle.app.people_admin.joining import NewPerson
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.plumbing.actor import COMMAND_LINE, Actor
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.app.today import usecases as today

OPERATOR = Actor("Ines", "", "GANNET")
OLDQUAY, TERN = Actor("Maren", "", "OLDQUAY"), Actor("Tilde", "", "TERN")


def mails(database: Database, to: str) -> list[str]:
    with database.engine.connect() as connection:
        return list(
            connection.scalars(sa.text("SELECT body FROM outbox WHERE to_address = :to ORDER BY id"), {"to": to})
        )


def link(database: Database, to: str) -> str:
    found = re.search(r"/joining/([\w-]+)", mails(database, to)[-1])
    assert found
    return found[1]


def people(database: Database, find: str) -> list[listing.Row]:
    return database.run(listing.listing, COMMAND_LINE, Asked(find=find)).rows


def test_whoever_proves_an_address_of_the_domain_joins_at_once(demo: Database) -> None:
    demo.run(domains.put_domain, OLDQUAY, "@Quay-Crew.example", "OLDQUAY-CREW", "at once")
    demo.run(domains.approve, OPERATOR, "quay-crew.example", "OLDQUAY-CREW")
    demo.run(domains.ask, "Ida.Blom@quay-crew.example", " Ida  Blom ")
    assert people(demo, "ida.blom") == [], "nobody is in before the address is proven"
    token = link(demo, "ida.blom@quay-crew.example")
    assert demo.run(domains.asked, token) == domains.JoinWish("Ida Blom", "Crew Office", "open", True)
    assert demo.run(domains.prove, token).state == "joined" and demo.run(domains.prove, token).state == "joined"
    (row,) = people(demo, "ida.blom")
    assert (row.account, row.person.status, row.person.display_name) == ("OLDQUAY-CREW", "active", "Ida Blom")
    demo.run(domains.ask, "ida.blom@quay-crew.example", "Somebody else")
    assert "known already" in mails(demo, "ida.blom@quay-crew.example")[-1], "and joins once"


def test_where_joining_is_approved_it_waits_in_today_of_whoever_runs_the_branch(demo: Database) -> None:
    demo.run(domains.put_domain, COMMAND_LINE, "quay.example", "OLDQUAY", "approved")
    for name in ("Ida", "Ivo"):
        demo.run(domains.ask, f"{name}@quay.example", name)
        assert demo.run(domains.prove, link(demo, f"{name.lower()}@quay.example")).state == "waits"
    assert [each.name for each in demo.run(today.today, OLDQUAY).joins] == ["Ida", "Ivo"] and demo.run(
        today.today, TERN
    ).joins == []
    ida, ivo = demo.run(domains.waiting, OLDQUAY)
    with pytest.raises(Refused, match="no request to join"):
        demo.run(domains.decide, TERN, ida.id, True)
    assert (
        demo.run(domains.decide, OLDQUAY, ida.id, True) == "ida"
        and demo.run(domains.decide, OLDQUAY, ivo.id, False) is None
    )
    assert (
        "you are at Old Quay Ferries now" in mails(demo, "ida@quay.example")[-1]
        and "not granted" in mails(demo, "ivo@quay.example")[-1]
    )
    assert (
        people(demo, "ida@quay.example")
        and not people(demo, "ivo@quay.example")
        and demo.run(domains.waiting, OLDQUAY) == []
    )
    with pytest.raises(Refused, match="has decided that already"):
        demo.run(domains.decide, OLDQUAY, ivo.id, True)


def test_an_unknown_domain_is_answered_like_a_known_one_and_nobody_is_flooded(demo: Database) -> None:
    demo.run(domains.ask, "ida@nowhere.example", "Ida")
    assert mails(demo, "ida@nowhere.example") == []
    demo.run(domains.put_domain, OPERATOR, "quay.example", "OLDQUAY", "at once")
    for _ in range(10):
        demo.run(domains.ask, "ida@quay.example", "Ida")
    assert len(mails(demo, "ida@quay.example")) == domains.MOST_ASKED
    demo.run(joining.add, OLDQUAY, joining.NewPerson("OLDQUAY", "Ivo", "ivo@quay.example", invite=False))
    for _ in range(10):
        demo.run(domains.ask, "ivo@quay.example", "Ivo")
    assert len(mails(demo, "ivo@quay.example")) == domains.MOST_ASKED, "nor who is known already"


def test_one_account_has_a_domain_though_two_read_that_nobody_has_it(
    demo: Database, monkeypatch: pytest.MonkeyPatch
) -> None:
    for account in ("OLDQUAY", "TERN"):
        demo.run(domains.put_domain, Actor("Admin", "", account), "quay.example", account, "at once")
    seen = demo.run(lambda tx: store.lock_domain(tx.connection, "quay.example"))
    monkeypatch.setattr(store, "lock_domain", lambda connection, name: seen)  # as on another server of a cluster
    demo.run(domains.approve, OPERATOR, "quay.example", "OLDQUAY")
    with pytest.raises(Refused, match="already"):
        demo.run(domains.approve, OPERATOR, "quay.example", "TERN")
    assert [row.approved_at is None for row in demo.run(domains.domains, OPERATOR)[1]] == [False, True]


def test_a_link_holds_for_a_day_and_only_while_the_domain_belongs_there(demo: Database) -> None:
    demo.run(domains.put_domain, OPERATOR, "quay.example", "OLDQUAY", "at once")
    demo.run(domains.ask, "ida@quay.example", "Ida")
    token = link(demo, "ida@quay.example")
    demo.run(domains.forget_domain, OLDQUAY, "quay.example", "OLDQUAY")
    with pytest.raises(Refused, match="no longer join by themselves"):
        demo.run(domains.prove, token)
    demo.run(domains.put_domain, OPERATOR, "quay.example", "OLDQUAY", "at once")
    demo.clock.set_to(demo.clock.now() + domains.LINK_HOLDS + timedelta(minutes=1))
    with pytest.raises(Refused, match="held for a day"):
        demo.run(domains.prove, token)
    with pytest.raises(Refused, match="nothing at this address"):
        demo.run(domains.prove, "guessed")


def test_a_domain_counts_once_the_operator_approved_it_and_is_one_accounts(demo: Database) -> None:
    for actor, account in ((OLDQUAY, "OLDQUAY"), (TERN, "TERN")):
        demo.run(domains.put_domain, actor, "gannet.example", account, "at once")
        assert [row.approved_at for row in demo.run(domains.domains, actor)[1]] == [None], "each sees only their own"
        with pytest.raises(Refused, match="The operator approves"):
            demo.run(domains.approve, actor, "gannet.example", account)
    demo.run(domains.ask, "ida@gannet.example", "Ida")
    assert mails(demo, "ida@gannet.example") == [], "nobody joins by a domain that only waits"
    assert [each[1] for each in demo.run(today.today, OPERATOR).domains] == [
        "Old Quay Ferries",
        "Tern Housing Association",
    ]
    assert demo.run(today.today, OLDQUAY).domains == []
    demo.run(domains.approve, OPERATOR, "gannet.example", "TERN")
    with pytest.raises(Refused, match="belongs to Tern Housing Association already"):
        demo.run(domains.approve, OPERATOR, "gannet.example", "OLDQUAY")
    demo.run(domains.put_domain, TERN, "gannet.example", "TERN", "approved")
    demo.run(domains.ask, "ida@gannet.example", "Ida")
    assert "join Tern Housing Association" in mails(demo, "ida@gannet.example")[-1], "another way of joining keeps it"


def test_a_name_that_a_mail_program_makes_a_link_of_stands_in_no_mail(demo: Database) -> None:
    named = "Visit http://evil.example/login"
    demo.run(joining.add, OLDQUAY, NewPerson("OLDQUAY", named, "ida@quay.example"))
    assert mails(demo, "ida@quay.example")[-1].startswith("Hello,\n\nMaren has set you up at Old Quay Ferries.")
    with pytest.raises(Refused, match="no line breaks"):
        demo.run(joining.add, OLDQUAY, NewPerson("OLDQUAY", "Ida\n\nPay here", "ivo@quay.example"))


@pytest.mark.parametrize(
    ("domain", "account", "why"),
    [
        ("no domain", "OLDQUAY", "is no domain"),
        ("quay", "OLDQUAY", "is no domain"),
        ("<script>.example", "OLDQUAY", "is no domain"),
        ("x.example", "TERN", "no account"),
    ],
)
def test_a_domain_that_cannot_be_is_refused(shared_demo: Database, domain: str, account: str, why: str) -> None:
    with pytest.raises(Refused, match=why):
        shared_demo.run(domains.put_domain, OLDQUAY, domain, account, "at once")
    for name in ("<b>", "Win at http://x.example", "ask me@x.example", "call evil.example now"):
        with pytest.raises(Refused, match="Give your name"):
            shared_demo.run(domains.ask, "a@tern.example", name)


def test_a_known_address_is_linked_as_member_or_as_admin_and_never_twice_in_one_account(demo: Database) -> None:
    known = (
        demo.run(
            listing.listing, COMMAND_LINE, Asked(account="OLDQUAY-CREW", status="active", filter="emails.value pr")
        )
        .rows[0]
        .person
    )
    twice = NewPerson("OLDQUAY", known.display_name, known.email, title="Board")
    with pytest.raises(Refused, match="link or move that person") as refused:
        demo.run(joining.add, OLDQUAY, twice)
    assert refused.value.problem.more["username"] == known.username
    username = demo.run(joining.add, OLDQUAY, NewPerson(**{**vars(twice), "link": True}))
    there = demo.run(listing.person, OLDQUAY, username)
    assert there.row.person.status == "active" and there.row.person.title == "Board", (
        "who joined once needs no second invitation"
    )
    assert [each[0] for each in there.also] == [known.username]
    with pytest.raises(Refused, match="already"):
        demo.run(joining.add, OLDQUAY, NewPerson(**{**vars(twice), "link": True}))
    assert demo.run(joining.add, TERN, NewPerson("TERN", "Ada", known.email)) == "ada", (
        "who is elsewhere is not told of"
    )
    demo.run(joining.add, OLDQUAY, NewPerson("OLDQUAY-ISLAND", "Ada", known.email, link=True, role="admin"))
    assert (
        demo.run(
            lambda tx: sign_in_service.actor_for(
                tx, sign_in_service.find_by_email(tx, known.email).id, "OLDQUAY-ISLAND"
            )
        )
        is not None
    )
    demo.run(joining.add, OLDQUAY, NewPerson("OLDQUAY-CREW", "Desk", "desk@oldquay.example", "desk.hand", role="desk"))
    assert demo.run(listing.person, OLDQUAY, "desk.hand").runs == [("Crew Office", "Service desk")]
    with pytest.raises(Refused, match="There is no role 'captain' here"):
        demo.run(joining.add, OLDQUAY, NewPerson("OLDQUAY-CREW", "Cap", "cap@oldquay.example", role="captain"))
