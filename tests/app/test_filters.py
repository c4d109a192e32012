"""SCIM's filter language over people: every operator against a reader of its own, and wrong ones refused with the
position."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import pytest
import sqlalchemy as sa
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from fair_ladle.app.people.filters import clause
from fair_ladle.app.people.tables import people
from fair_ladle.app.plumbing.database import Database
from fair_ladle.app.plumbing.problems import Refused

WRONG = [
    ("userName", 9, "here is the end"),
    ("userName eq", 12, "a text in double quotes"),
    ('foo eq "x"', 1, "people have no attribute foo"),
    ('title xx "a"', 7, "an operator"),
    ('title eq "a" and', 17, "an attribute"),
    ('title eq "a" title pr', 14, "and, or"),
    ("active gt true", 8, "eq or ne"),
    ("active eq 1", 11, "true or false"),
    ("title eq 5", 10, "text in double quotes"),
    ('lastSeenAt gt "yesterday"', 15, "no instant"),
    ('lastSeenAt gt "2026-01-01T00:00:00"', 15, "no offset"),
    ('lastSeenAt co "2026"', 12, "eq, ne, gt"),
    ("(title pr", 10, ")"),
    ("", 1, "an attribute"),
    ('title eq "a', 10, '“"a”'),
    ("title gt null", 7, "eq or ne"),
    ('name[formatted eq "x"]', 1, "no parts"),
    ('emails[kind eq "x"]', 8, "value, type, primary"),
    ("(" * 300 + "title pr" + ")" * 300, 1, "200 deep"),
    ("title pr" + " or title pr" * 1000, 4001, "at most 4000"),
    ("not title pr", 5, "("),
]


@pytest.mark.parametrize(("text", "position", "says"), WRONG, ids=[case[0][:30] or "nothing" for case in WRONG])
def test_a_wrong_filter_is_refused_with_its_position(text: str, position: int, says: str) -> None:
    with pytest.raises(Refused) as refused:
        clause(text)
    problem = refused.value.problem
    assert problem.more["position"] == position and says in problem.detail, problem.detail


ROWS: list[dict[str, Any]] = [
    {
        "username": "ada",
        "display_name": "Ada Lovelock",
        "email": "Ada@Quay.example",
        "status": "active",
        "title": "Manager",
        "department": "Berths",
        "protected": True,
        "last_seen_at": "2026-11-01T10:00:00+00:00",
    },
    {
        "username": "BEN",
        "display_name": "Bén O'Neil",
        "email": None,
        "status": "invited",
        "title": None,
        "department": "berths",
        "protected": False,
        "last_seen_at": None,
    },
    {
        "username": "cy_100%",
        "display_name": 'Cy "Sea" Dee',
        "email": "cy@sea.example",
        "status": "suspended",
        "title": "manager of boats",
        "department": None,
        "protected": False,
        "last_seen_at": "2026-03-02T00:00:00+00:00",
    },
    {
        "username": "dot",
        "display_name": "dot",
        "email": "dot@quay.example",
        "status": "active",
        "title": "Deckhand",
        "department": "Crew; night",
        "protected": False,
        "last_seen_at": "2026-11-20T08:30:00+00:00",
    },
]
TEXTS = {
    "userName": "username",
    "displayName": "display_name",
    "emails.value": "email",
    "title": "title",
    "department": "department",
    "status": "status",
}
COMPARE: dict[str, Callable[[Any, Any], bool]] = {
    "eq": lambda a, b: a == b,
    "co": lambda a, b: b in a,
    "sw": lambda a, b: a.startswith(b),
    "ew": lambda a, b: a.endswith(b),
    "gt": lambda a, b: a.encode() > b.encode(),
    "ge": lambda a, b: a.encode() >= b.encode(),
    "lt": lambda a, b: a.encode() < b.encode(),
    "le": lambda a, b: a.encode() <= b.encode(),
}
Reader = tuple[str, Callable[[dict[str, Any]], bool]]


def compared(attribute: str, operator: str, value: str) -> Reader:
    column = TEXTS[attribute]

    def holds(row: dict[str, Any]) -> bool:
        if operator == "ne":
            return row[column] is None or row[column].lower() != value.lower()
        return row[column] is not None and COMPARE[operator](row[column].lower(), value.lower())

    quoted = value.replace("\\", "\\\\").replace('"', '\\"')
    return f'{attribute} {operator} "{quoted}"', holds


def seen(operator: str, instant: str) -> Reader:
    def holds(row: dict[str, Any]) -> bool:
        there = row["last_seen_at"]
        return (
            operator == "ne"
            if there is None
            else there != instant
            if operator == "ne"
            else COMPARE[operator](there, instant)
        )

    return f'lastSeenAt {operator} "{instant}"', holds


LEAVES: st.SearchStrategy[Reader] = st.one_of(
    st.builds(
        compared,
        st.sampled_from(sorted(TEXTS)),
        st.sampled_from([*COMPARE, "ne"]),
        st.sampled_from(
            [
                "ada",
                "Manager",
                "berths",
                "quay.example",
                "%",
                "_",
                "!",
                "cy_1",
                "é",
                "e",
                'Cy "Sea" Dee',
                "\\",
                "",
                "active",
                "; ",
            ]
        ),
    ),
    st.builds(
        seen,
        st.sampled_from(["eq", "ne", "gt", "ge", "lt", "le"]),
        st.sampled_from([row["last_seen_at"] for row in ROWS if row["last_seen_at"]]),
    ),
    st.builds(
        lambda truth: (f"active eq {str(truth).lower()}", lambda row: (row["status"] == "active") == truth),
        st.booleans(),
    ),
    st.builds(
        lambda truth: (f"protected ne {str(truth).lower()}", lambda row: row["protected"] != truth), st.booleans()
    ),
    st.builds(lambda name: (f"{name} pr", lambda row: row[TEXTS[name]] is not None), st.sampled_from(sorted(TEXTS))),
    st.builds(lambda name: (f"{name} eq null", lambda row: row[TEXTS[name]] is None), st.sampled_from(sorted(TEXTS))),
    st.just(('emails[type eq "work" and value ew ".example"]', lambda row: row["email"] is not None)),
)


def joined(inner: st.SearchStrategy[Reader]) -> st.SearchStrategy[Reader]:
    """Longer ones: and binds closer than or, and brackets closest."""
    return st.one_of(
        st.builds(lambda a: (f"not ({a[0]})", lambda row: not a[1](row)), inner),
        st.builds(lambda a, b: (f"({a[0]}) and ({b[0]})", lambda row: a[1](row) and b[1](row)), inner, inner),
        st.builds(
            lambda a, b, c: (f"({a[0]}) OR ({b[0]}) And ({c[0]})", lambda row: a[1](row) or (b[1](row) and c[1](row))),
            inner,
            inner,
            inner,
        ),
    )


@pytest.fixture(scope="module")
def with_people(new_database: Callable[[], Database]) -> Database:
    database = new_database()
    with database.engine.begin() as connection:
        account = connection.execute(
            sa.text("INSERT INTO accounts (code, kind, name) VALUES ('A', 'operator', 'A')")
        ).lastrowid
        from datetime import datetime

        connection.execute(
            sa.insert(people),
            [
                {
                    **row,
                    "account_id": account,
                    "last_seen_at": datetime.fromisoformat(row["last_seen_at"]) if row["last_seen_at"] else None,
                }
                for row in ROWS
            ],
        )
    return database


@settings(max_examples=400, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(reader=st.recursive(LEAVES, joined, max_leaves=6))
def test_the_database_finds_whom_a_reader_would(with_people: Database, reader: Reader) -> None:
    text, holds = reader
    with with_people.engine.connect() as connection:
        found = set(connection.scalars(sa.select(people.c.username).where(clause(text))))
    assert found == {row["username"] for row in ROWS if holds(row)}, text


def test_attributes_and_operators_are_read_without_regard_to_case_and_with_their_urn() -> None:
    same = ['title eq "x"', 'TITLE Eq "x"', 'urn:ietf:params:scim:schemas:core:2.0:User:title eq "x"']
    assert len({re.sub(r"\s+", " ", str(clause(each))) for each in same}) == 1
