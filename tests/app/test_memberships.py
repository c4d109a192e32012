"""Who is in a group by its rule: whatever happens to people, rules and places, what is kept answers as the rule does."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress

import pytest
import sqlalchemy as sa
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import Move
from fair_ladle.app.people import memberships, store
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people.groups import PRESENT, Group, Groups, in_branch, readable
from fair_ladle.app.people.tables import groups, people
from fair_ladle.app.people_admin import groups as group_usecases
from fair_ladle.app.people_admin.groups import GroupTerms
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.usage import whose
from tests.conftest import actor_of

OPERATOR = actor_of("GANNET")
RULES = ("active eq true", 'title eq "Manager"', 'department co "a" and not (title sw "D")', "protected eq true")


def by_the_rules(tx: Transaction) -> dict[str, set[int]]:
    """Everybody in each group, asked of the rules alone, part by part."""
    every = Groups.read(tx, accounts_service.known(tx))

    def of(group: Group) -> set[int]:
        names, inside = every.parts(group)
        branch = in_branch(every.accounts, every.row(group))
        mine = set(
            tx.connection.scalars(
                sa.select(people.c.id).where(
                    PRESENT, branch, sa.or_(people.c.username.in_(names), readable(group.rule or ""))
                )
            )
        )
        below = set(tx.connection.scalars(sa.select(people.c.id).where(branch)))
        return mine | {person for part in inside for person in of(part) & below}

    return {f"{each.account_id}/{each.code}": of(each) for each in every.every}


def as_kept(tx: Transaction) -> tuple[dict[str, set[int]], ...]:
    """The same by what is kept: as a condition, as a query, and from the people's side."""
    every = Groups.read(tx, accounts_service.known(tx))
    rows = list(tx.connection.execute(sa.select(people)))
    of_people = every.of_people(tx, rows)
    names = {each.id: f"{each.account_id}/{each.code}" for each in every.every}
    clauses = {
        names[each.id]: set(tx.connection.scalars(sa.select(people.c.id).where(every.clause(each))))
        for each in every.every
    }
    queries = {names[each.id]: set(tx.connection.scalars(every.members(each))) for each in every.every}
    turned: dict[str, set[int]] = {name: set() for name in names.values()}
    for person, mine in of_people.items():
        for each in mine:
            turned[names[each.id]].add(person)
    return clauses, queries, turned


def the_same(database: Database) -> None:
    with database.transaction() as tx:
        wanted = by_the_rules(tx)
        for found in as_kept(tx):
            assert found == wanted


def caught_up(database: Database) -> None:
    while database.run(memberships.catch_up, whose.follow):
        pass
    with database.transaction() as tx:
        every = Groups.read(tx, accounts_service.known(tx))
        assert every.settled and all(each.kept for each in every.every if each.rule)
        assert memberships.differences(tx) == []


@settings(max_examples=4, phases=[Phase.generate], suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.data())
def test_what_is_kept_is_what_the_rules_say(new_demo: Callable[[], Database], data: st.DataObject) -> None:
    database = new_demo()
    the_same(database)
    with database.transaction() as tx:
        ids = list(tx.connection.scalars(sa.select(people.c.id).order_by(people.c.id)))
        places = [int(each) for each in accounts_service.known(tx).ids]
    for _ in range(6):
        what = data.draw(st.sampled_from(["title", "move", "remove", "rule", "nest", "account", "job"]))
        some = data.draw(st.lists(st.sampled_from(ids), min_size=1, max_size=5, unique=True))
        if what == "title":
            title = data.draw(st.sampled_from(["Manager", "Director", None]))
            database.run(people_service.change, some, {"title": title})
        elif what == "move":
            database.run(people_service.change, some, {"account_id": data.draw(st.sampled_from(places))})
        elif what == "remove":
            status = data.draw(st.sampled_from(["removed", "active", "suspended"]))
            database.run(people_service.change, some, {"status": status})
        elif what == "rule":
            with database.transaction() as tx:
                group_id = data.draw(st.sampled_from(list(tx.connection.scalars(sa.select(groups.c.id)))))
            rule = data.draw(st.sampled_from([*RULES, None]))
            database.run(people_service.put_group, group_id, {"rule": rule})
        elif what == "nest":
            codes = ("OLDQUAY-ALL", "OLDQUAY-NIGHTS", "MARROW-ALL")
            wanted = GroupTerms("GANNET", f"N{len(some)}", "Nested", data.draw(st.sampled_from(RULES)), codes, None)
            database.run(group_usecases.put, OPERATOR, wanted)
        elif what == "account":
            move_an_account(database, data.draw(st.sampled_from(["OLDQUAY", "MARROW", "GANNET"])))
        else:
            caught_up(database)
        the_same(database)
    caught_up(database)
    the_same(database)


def move_an_account(database: Database, parent: str) -> None:
    """MARROW-HILLFOOT, or what stands for it, below another account."""
    with database.transaction() as tx:
        tree = accounts_service.known(tx).tree
        if tree.codes[int(tree.parent[tree.row("MARROW-HILLFOOT")])] == parent:
            return
    with suppress(Refused):  # what is in use there may not fit below its cap
        database.run(drafts.apply_changes, OPERATOR, [Move(account="MARROW-HILLFOOT", parent=parent)], "a test")


def test_rows_that_were_tampered_with_are_told(demo: Database) -> None:
    caught_up(demo)
    with demo.engine.begin() as connection:
        group = connection.execute(sa.text("SELECT group_id, person_id FROM rule_matches LIMIT 1")).one()
        connection.execute(sa.text("DELETE FROM rule_matches WHERE person_id = :p"), {"p": group.person_id})
    with demo.transaction() as tx:
        assert [each[0] for each in memberships.differences(tx)].count("members by rule") >= 1


def test_who_changes_while_they_are_asked_is_asked_again(demo: Database, monkeypatch: pytest.MonkeyPatch) -> None:
    """Between reading whom to ask and locking them, another transaction changes one of them."""
    caught_up(demo)
    with demo.transaction() as tx:
        person = tx.connection.scalar(sa.select(people.c.id).limit(1))
    demo.run(people_service.change, [person], {"title": "Manager"})
    locking, changed = store.lock_people, []

    def changing_first(connection: sa.Connection, ids: list[int]) -> list[object]:
        if not changed:
            changed.append(True)
            demo.run(people_service.change, [person], {"title": "Director"})
        return locking(connection, ids)

    monkeypatch.setattr(store, "lock_people", changing_first)
    caught_up(demo)
    the_same(demo)
