"""SCIM's filter language (RFC 7644, section 3.4.2.2) over people: read with positions, and turned into SQL.

Attributes and operators are read without regard to case, and so are texts compared (``caseExact`` false). What has
no value is as if it were not there: ``pr`` is false, ``ne`` true, every other comparison false.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import lru_cache
from typing import Any, Literal

import sqlalchemy as sa
from lark import Lark, Token, Tree
from lark.exceptions import UnexpectedCharacters, UnexpectedEOF, UnexpectedInput, UnexpectedToken

from fair_ladle.app.people.tables import people
from fair_ladle.app.plumbing.problems import Problem, Refused

GRAMMAR = r"""
    ?start: either
    ?either: both (_OR both)*
    ?both: part (_AND part)*
    ?part: _NOT "(" either ")" -> negation
         | "(" either ")"
         | PATH "[" either "]" -> within
         | PATH _PRESENT -> present
         | PATH OPERATOR value -> comparison
    value: STRING | NUMBER | WORD
    _OR.2: /or(?=[\s(]|$)/i
    _AND.2: /and(?=[\s(]|$)/i
    _NOT.2: /not(?=\s*\()/i
    _PRESENT.2: /pr(?=[\s)\]]|$)/i
    OPERATOR.2: /(eq|ne|co|sw|ew|gt|ge|lt|le)(?=\s|$)/i
    PATH: /(urn:[A-Za-z0-9:._-]+:)?[A-Za-z][A-Za-z0-9_$-]*(\.[A-Za-z][A-Za-z0-9_$-]*)?/
    STRING: /"(\\(["\\\/bfnrt]|u[0-9a-fA-F]{4})|[^"\\])*"/
    NUMBER: /-?(0|[1-9]\d*)(\.\d+)?([eE][-+]?\d+)?/
    WORD.1: /(true|false|null)(?=[\s)\]]|$)/
    %ignore /\s+/
"""
EXPECTED = {
    "PATH": "an attribute",
    "OPERATOR": "an operator (eq, ne, co, sw, ew, gt, ge, lt, le)",
    "_PRESENT": "pr",
    "STRING": "a text in double quotes",
    "NUMBER": "a number",
    "WORD": "true, false or null",
    "_AND": "and",
    "_OR": "or",
    "_NOT": "not",
    "LPAR": "(",
    "RPAR": ")",
    "LSQB": "[",
    "RSQB": "]",
    "$END": "the end",
}
URNS = ("urn:ietf:params:scim:schemas:core:2.0:user:", "urn:ietf:params:scim:schemas:extension:enterprise:2.0:user:")
LONGEST, DEEPEST = 4000, 200
Kind = Literal["text", "truth", "instant"]
Clause = sa.ColumnElement[bool]


@dataclass(frozen=True)
class Attribute:
    """An attribute of a person: its name, what its values are, and the SQL for it (texts in small letters, truths
    never NULL)."""

    name: str
    kind: Kind
    column: sa.ColumnElement[Any]


ATTRIBUTES = {
    each.name.lower(): each
    for each in (
        Attribute("userName", "text", people.c.username_small),
        Attribute("displayName", "text", people.c.display_name_small),
        Attribute("name.formatted", "text", people.c.display_name_small),
        Attribute("emails", "text", people.c.email_small),
        Attribute("emails.value", "text", people.c.email_small),
        Attribute("emails.type", "text", sa.case((people.c.email.is_not(None), "work"), else_=None)),
        Attribute("emails.primary", "truth", people.c.email.is_not(None)),
        Attribute("active", "truth", people.c.status == "active"),
        Attribute("title", "text", people.c.title_small),
        Attribute("department", "text", people.c.department_small),
        Attribute("status", "text", people.c.status),
        Attribute("protected", "truth", people.c.protected),
        Attribute("invitedAt", "instant", people.c.invited_at),
        Attribute("lastSeenAt", "instant", people.c.last_seen_at),
    )
}


class _Wrong(Exception):
    def __init__(self, at: int, says: str):
        super().__init__(says)
        self.at, self.says = at, says


@lru_cache(maxsize=1)
def _parser() -> Lark:
    return Lark(GRAMMAR, parser="lalr", maybe_placeholders=False)


@lru_cache(maxsize=2000)
def clause(text: str, where: str = "filter") -> Clause:
    """A filter as a condition on ``people``; refused with the position (from 1) where it cannot be read."""
    try:
        if len(text) > LONGEST:
            raise _Wrong(LONGEST, f"A filter has at most {LONGEST} characters.")
        if _depth(text) > DEEPEST:
            raise _Wrong(0, f"Brackets stand at most {DEEPEST} deep.")
        return _clause(_read(text), "")
    except _Wrong as wrong:
        detail = f"At position {wrong.at + 1}: {wrong.says}"
        raise Refused(
            Problem(
                "invalid-filter", "The filter cannot be read", 422, detail, {"where": where, "position": wrong.at + 1}
            )
        ) from None


def _depth(text: str) -> int:
    deepest = depth = 0
    for each in text:
        depth += (each in "([") - (each in ")]")
        deepest = max(deepest, depth)
    return deepest


def _read(text: str) -> Tree[Token]:
    try:
        return _parser().parse(text)
    except UnexpectedInput as wrong:
        # Where a token is wrong it knows what could stand there; at the end of the text nothing does.
        at = (
            len(text)
            if isinstance(wrong, UnexpectedEOF) or (isinstance(wrong, UnexpectedToken) and wrong.token.type == "$END")
            else wrong.pos_in_stream or 0
        )
        names = (
            wrong.allowed
            if isinstance(wrong, UnexpectedCharacters)
            else getattr(wrong, "accepts", None) or getattr(wrong, "expected", set())
        )
        could = [said for name, said in EXPECTED.items() if name in (names or ())]
        there = f"“{text[at : at + 12]}”" if at < len(text) else "the end"
        raise _Wrong(at, f"here is {there}; expected is {', '.join(could) or 'an attribute'}.") from None


def _clause(tree: Tree[Token], inside: str) -> Clause:
    parts: list[Any] = tree.children
    if tree.data in ("either", "both"):
        join = sa.or_ if tree.data == "either" else sa.and_
        return join(*(_clause(each, inside) for each in parts))
    if tree.data == "negation":
        return sa.not_(_clause(parts[0], inside))
    if tree.data == "within":
        path = parts[0]
        if inside or str(path).lower() != "emails":
            raise _Wrong(path.start_pos or 0, f"{path} has no parts to look into; emails has (value, type, primary).")
        return _clause(parts[1], "emails.")
    attribute = _attribute(parts[0], inside)
    if tree.data == "present":
        return attribute.column.is_not(None) if attribute.kind != "truth" else sa.true()
    return _comparison(attribute, parts[1], parts[2].children[0])


def _attribute(path: Token, inside: str) -> Attribute:
    name = str(path).lower()
    for urn in URNS:
        name = name.removeprefix(urn)
    found = ATTRIBUTES.get(inside + name)
    if found is None:
        known = [each.name.removeprefix(inside) for each in ATTRIBUTES.values() if each.name.startswith(inside)]
        raise _Wrong(path.start_pos or 0, f"people have no attribute {path}; there are {', '.join(known)}.")
    return found


def _comparison(attribute: Attribute, operator: Token, value: Token) -> Clause:
    at, name = value.start_pos or 0, operator.lower()
    if value.type == "WORD" and value == "null":
        if name not in ("eq", "ne"):
            raise _Wrong(operator.start_pos or 0, "null is compared with eq or ne.")
        has = attribute.column.is_not(None) if attribute.kind != "truth" else sa.true()
        return sa.not_(has) if name == "eq" else has
    if attribute.kind == "truth":
        if value.type != "WORD":
            raise _Wrong(at, f"{attribute.name} is true or false.")
        if name not in ("eq", "ne"):
            raise _Wrong(operator.start_pos or 0, f"{attribute.name} is true or false; it is compared with eq or ne.")
        return attribute.column.is_((value == "true") == (name == "eq"))
    if value.type != "STRING":
        raise _Wrong(at, f"{attribute.name} is compared with a text in double quotes.")
    try:
        text = json.loads(value)
        text.encode()
    except (ValueError, UnicodeEncodeError):
        raise _Wrong(at, "this text has characters that cannot be read; write control characters as \\u0009.") from None
    compare = _instants(text, at, name, operator) if attribute.kind == "instant" else _texts(text)
    if name in ("eq", "ne"):
        same = compare["eq"](attribute.column)
        return same if name == "eq" else sa.not_(same)
    # Never unknown, so that it can be negated, and in a form that an index answers.
    return sa.and_(attribute.column.is_not(None), compare[name](attribute.column))


def _texts(text: str) -> dict[str, Callable[[Any], Clause]]:
    # Letter by letter, both in small letters: a collation that ignores case would ignore accents too.
    value = sa.collate(sa.func.lower(sa.literal(text)), "utf8mb4_nopad_bin")
    length = sa.func.char_length(sa.func.lower(sa.literal(text)))
    escaped = text.replace("!", "!!").replace("%", "!%").replace("_", "!_")
    begins = sa.collate(sa.func.lower(sa.literal(f"{escaped}%")), "utf8mb4_nopad_bin")
    return {
        "eq": lambda column: _same(column, value),
        "co": lambda column: contains(column, text),
        "sw": lambda column: column.like(begins, escape="!"),
        "ew": lambda column: sa.func.right(column, length) == value,
        "gt": lambda column: column > value,
        "ge": lambda column: column >= value,
        "lt": lambda column: column < value,
        "le": lambda column: column <= value,
    }


def contains(column: Any, text: str) -> Clause:
    """Whether a column of small letters has a text in it. UTF-8 is looked through byte by byte: the same, and
    faster."""
    return sa.func.locate(sa.cast(sa.func.lower(sa.literal(text)), sa.LargeBinary), sa.cast(column, sa.LargeBinary)) > 0


def _same(column: Any, value: Any) -> Clause:
    """Equal, and false (not unknown) where there is no value."""
    return column.bool_op("<=>")(value)  # type: ignore[no-any-return]


def _instants(text: str, at: int, name: str, operator: Token) -> dict[str, Callable[[Any], Clause]]:
    if name in ("co", "sw", "ew"):
        raise _Wrong(operator.start_pos or 0, "An instant is compared with eq, ne, gt, ge, lt or le.")
    try:
        instant = datetime.fromisoformat(text)
        if instant.tzinfo is not None:
            instant = instant.astimezone(UTC)
    except (ValueError, OverflowError):
        raise _Wrong(at, f"{text!r} is no instant; write it like 2026-11-24T12:00:00Z.") from None
    if instant.tzinfo is None:
        raise _Wrong(at, f"{text!r} has no offset; write it like 2026-11-24T12:00:00Z.")
    return {
        "eq": lambda column: _same(column, instant),
        "gt": lambda column: column > instant,
        "ge": lambda column: column >= instant,
        "lt": lambda column: column < instant,
        "le": lambda column: column <= instant,
    }
