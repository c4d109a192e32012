"""What a table of people comes to: which column is what, what would be done with each row, and every fault."""

from __future__ import annotations

import math
import re
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.assignments import eligibility
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people_admin.joining import USERNAME
from fair_ladle.app.people_admin.listing import groups_in_sight
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.addresses import email as an_email
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.usage import service as usage
from fair_ladle.connectors.sheets_in import Fault

Do = Literal["create", "link", "update", "leave"]
Leaving = Literal["", "suspend", "release", "remove"]
"""What is done with those who leave: suspended with their seats kept, or without them, or removed."""
FIELDS: dict[str, tuple[str, str]] = {
    "name": ("Name", "name|fullname|displayname|person"),
    "first_name": ("First name", "firstname|givenname|forename"),
    "last_name": ("Last name", "lastname|surname|familyname"),
    "email": ("E-mail address", "email|emailaddress|mail|workemail|address"),
    "username": ("Username", "username|login|user|userid|account name"),
    "account": ("Account", "account|client|tenant|accountcode|company|site"),
    "title": ("Title", "title|jobtitle|role|position"),
    "department": ("Department", "department|dept|team|unit"),
    "status": ("Status", "status|state"),
    "protected": ("Protected", "protected"),
    "groups": ("Groups", "groups|group"),
    "products": ("Products", "products|product|licences|licenses|licence|license|seats"),
}
"""What a column can be: its label, and what its header is often called."""
TRUTH = {"yes": True, "true": True, "1": True, "y": True, "no": False, "false": False, "0": False, "n": False}
NOWHERE = -1
"""In place of an account's row: the file names none, and no default is chosen."""
STATUSES = ("active", "invited", "suspended")
SEATS_LOOKED_AT = 300


@dataclass(frozen=True)
class ImportChoices:
    """Which column (its place) is what, and what is done with whom.

    ``account``: where people join whose row names none. ``known``: people there already are brought up to the table or
    left. ``elsewhere``: what of an address that is known in another account. ``leaving``: the rows are of people who
    leave, and nothing else of them is read. ``groups`` and ``products`` are for
    everybody; ``leave_out``: rows that nothing is done with, besides those at fault if ``leave_faults``.
    """

    columns: dict[str, int] = field(default_factory=dict)
    account: str = ""
    known: Literal["update", "leave"] = "update"
    elsewhere: Literal["refuse", "update", "link"] = "refuse"
    joining: Literal["invited", "active"] = "invited"
    leaving: Leaving = ""
    groups: tuple[str, ...] = ()
    products: tuple[str, ...] = ()
    leave_out: tuple[int, ...] = ()
    leave_faults: bool = False


@dataclass(frozen=True)
class Step:
    """What is done with a row. ``facts`` are those given (or, of somebody known, those that differ). ``back``: what was
    done with somebody who left is undone."""

    row: int
    do: Do
    account: str
    username: str
    facts: dict[str, Any]
    status: str | None
    groups: list[str]
    products: list[str]
    leaving: Leaving = ""
    back: bool = False


@dataclass(frozen=True)
class Needed:
    """Seats of a product that rows ask for in an account, how many more it can take now as far as the actor may see
    (None = nothing in their branch limits it), and whether that falls short, limits above them counted."""

    account: str
    account_name: str
    product: str
    product_name: str
    needed: int
    left: int | None
    is_short: bool


@dataclass(frozen=True)
class Conflict:
    """A product that a row asks for and its person will not get, and why."""

    row: int
    name: str
    product: str
    why: str


@dataclass
class ImportPlan:
    """What is done row by row, and what speaks against the others."""

    steps: list[Step] = field(default_factory=list)
    faults: list[Fault] = field(default_factory=list)
    left_out: int = 0

    def counts(self) -> dict[str, int]:
        """How many rows come to what."""
        found = Counter(each.do for each in self.steps)
        return {
            **{do: found.get(do, 0) for do in ("create", "link", "update", "leave")},
            "fault": len({each.row for each in self.faults}),
            "left_out": self.left_out,
        }


def guess(header: Sequence[str]) -> dict[str, int]:
    """Which columns are what, by their names."""
    found: dict[str, int] = {}
    for place, name in enumerate(header):
        plain = re.sub(r"[^a-z]", "", name.lower())
        for key, (_, words) in FIELDS.items():
            if plain in words.split("|") and key not in found and place not in found.values():
                found[key] = place
    return found


def plan(
    tx: Transaction, actor: Actor, header: Sequence[str], rows: Sequence[tuple[int, list[str]]], how: ImportChoices
) -> ImportPlan:
    """What would be done with every row, and every fault there is."""
    return _Planning(tx, actor, header, rows, how).made()


class _Wrong(Exception):
    """A cell that cannot be: field, what stands there, what would be right."""

    def __init__(self, field: str, found: str, expected: str):
        super().__init__(expected)
        self.field, self.found, self.expected = field, found[:120], expected


class _Planning:
    """One table being read."""

    def __init__(
        self,
        tx: Transaction,
        actor: Actor,
        header: Sequence[str],
        rows: Sequence[tuple[int, list[str]]],
        how: ImportChoices,
    ):
        self.header, self.rows, self.how = header, rows, how
        self.accounts = accounts_service.known(tx)
        self.top = accounts_service.top_row(self.accounts, actor)
        self.branch = set(self.accounts.tree.branch(self.top).tolist())
        self.default = accounts_service.row_in_scope(self.accounts, actor, how.account) if how.account else NOWHERE
        if not how.account and len(self.branch) == 1:
            self.default = self.top
        self.account_rows = self._account_rows(self.accounts)
        self.products = {}
        for each in pools_service.products(tx):
            if each.measure == "seat":
                self.products.update({each.code.lower(): each.code, each.name.lower(): each.code})
        self.groups = self._groups(tx, actor)
        self.by_username = people_service.by_username(tx, {name for name in self._column("username") if name})
        self.by_email = people_service.by_email(tx, {email.lower() for email in self._column("email") if email})
        self.first_row: dict[str, dict[str, int]] = {"email": {}, "username": {}}

    def _account_rows(self, accounts: Accounts) -> dict[str, int]:
        names = Counter(accounts.name(row).lower() for row in self.branch)
        found = {accounts.name(row).lower(): row for row in self.branch if names[accounts.name(row).lower()] == 1}
        return {**found, **{accounts.tree.codes[row].lower(): row for row in self.branch}}

    def _groups(self, tx: Transaction, actor: Actor) -> dict[str, str]:
        every = groups_in_sight(tx, actor, self.accounts)
        full = {each.id: f"{self.accounts.tree.codes[every.row(each)]}/{each.code}" for each in every.every}
        times = Counter(word for each in every.every for word in {each.code.lower(), each.name.lower()})
        found = {
            word: full[each.id]
            for each in every.every
            for word in {each.code.lower(), each.name.lower()}
            if times[word] == 1
        }
        return {**found, **{name.lower(): name for name in full.values()}}

    def _column(self, name: str) -> Iterator[str]:
        place = self.how.columns.get(name)
        return (
            iter(())
            if place is None
            else (cells[place].strip() if place < len(cells) else "" for _, cells in self.rows)
        )

    def made(self) -> ImportPlan:
        """Go through the rows."""
        plan, left_out = ImportPlan(), set(self.how.leave_out)
        for number, cells in self.rows:
            if number in left_out:
                plan.left_out += 1
                continue
            given = {
                name: text
                for name, place in self.how.columns.items()
                if place < len(cells)
                and (text := cells[place].strip())
                and (name in ("email", "username", "account") or not self.how.leaving)
            }
            if not given:
                continue
            wrong: list[_Wrong] = []
            step = self._step(number, given, wrong)
            for each in wrong:
                place = self.how.columns.get(each.field)
                column = self.header[place] if place is not None and place < len(self.header) else FIELDS[each.field][0]
                plan.faults.append(Fault("", number, column, each.found, each.expected))
            if not wrong and step is not None:
                plan.steps.append(step)
        return plan

    def _step(self, number: int, given: dict[str, str], wrong: list[_Wrong]) -> Step | None:
        def read(reader: Callable[[dict[str, str]], Any], otherwise: Any = None) -> Any:
            try:
                return reader(given)
            except _Wrong as trouble:
                wrong.append(trouble)
                return otherwise

        facts = {
            name: value
            for name, value in {
                "display_name": read(self._name),
                "email": read(self._email),
                "title": read(lambda g: self._text(g, "title")),
                "department": read(lambda g: self._text(g, "department")),
                "protected": read(self._protected),
            }.items()
            if value is not None
        }
        row = read(self._account, self.default)
        username, status = read(self._username, ""), read(self._status)
        groups = [
            *dict.fromkeys(
                [*self.how.groups, *read(lambda g: self._listed(g, "groups", self.groups, "a group of the branch"), [])]
            )
        ]
        products = [
            *dict.fromkeys(
                [
                    *self.how.products,
                    *read(
                        lambda g: self._listed(g, "products", self.products, "a product that people have seats of"), []
                    ),
                ]
            )
        ]
        for name, value in (("email", facts.get("email")), ("username", username)):
            before = self.first_row[name].setdefault(value, number) if value else number
            if before != number:
                wrong.append(
                    _Wrong(
                        name,
                        value or "",
                        f"every {'address' if name == 'email' else 'username'} once; this one "
                        f"stands in row {before} already",
                    )
                )
        person = self.by_username.get(username) or self._by_address(facts.get("email"), row)
        try:
            if person is None:
                return self._new(number, row, username, facts, status, groups, products)
            return self._known(
                number, row if "account" in given else None, person, username, facts, status, groups, products
            )
        except _Wrong as trouble:
            if all(each.field != trouble.field for each in wrong):
                wrong.append(trouble)
            return None

    def _new(
        self,
        number: int,
        row: int,
        username: str,
        facts: dict[str, Any],
        status: str | None,
        groups: list[str],
        products: list[str],
    ) -> Step:
        if self.how.leaving:
            by = "username" if username else "email"
            raise _Wrong(by, username or facts.get("email", ""), "somebody of the branch, by address or username")
        if row == NOWHERE:
            raise _Wrong("account", "", "an account in the file, or a default account for the file")
        if "display_name" not in facts:
            raise _Wrong("name", "", "a name: everybody has one")
        if self.accounts.status(row) != "active":
            raise _Wrong(
                "account",
                self.accounts.name(row),
                f"an account that is active; this one is {self.accounts.status(row)}",
            )
        status = status or self.how.joining
        if status == "invited" and "email" not in facts:
            raise _Wrong("email", "", "an address, since an invitation goes there")
        return Step(number, "create", self.accounts.tree.codes[row], username, facts, status, groups, products)

    def _known(
        self,
        number: int,
        named: int | None,
        person: Any,
        username: str,
        facts: dict[str, Any],
        status: str | None,
        groups: list[str],
        products: list[str],
    ) -> Step:
        place, by = self.accounts.row_of_id[person.account_id], "username" if username == person.username else "email"
        found = username if by == "username" else facts["email"]
        if place not in self.branch:
            raise _Wrong(by, found, "another username; this one is taken")
        if person.status == "removed":
            raise _Wrong(by, found, f"a current person; {person.display_name} was removed: restore them first")
        if self.how.leaving:
            if person.source != "here":
                raise _Wrong(by, found, f"a person maintained here; {person.source} maintains {person.display_name}")
            do: Do = "leave" if self.how.leaving != "remove" and person.status == "suspended" else "update"
            return Step(
                number, do, self.accounts.tree.codes[place], person.username, {}, None, [], [], self.how.leaving
            )
        row = self.default if named is None and self.how.elsewhere == "link" else named
        if row is not None and row not in (place, NOWHERE):
            if self.how.elsewhere == "refuse":
                there = self.accounts.full_name(place, self.top)
                right = f"{there}, where {person.display_name} is; move them, or choose to link them"
                raise _Wrong("account", self.accounts.name(row), right)
            if self.how.elsewhere == "link" and by == "email":
                return Step(
                    number,
                    "link",
                    self.accounts.tree.codes[row],
                    "",
                    {"display_name": person.display_name, **facts},
                    status or "active",
                    groups,
                    products,
                )
        if person.source != "here":
            raise _Wrong(by, found, f"a person maintained here; {person.display_name} is maintained by {person.source}")
        changed = {name: value for name, value in facts.items() if getattr(person, name) != value}
        if "email" in changed and self._by_address(changed["email"], place) is not None:
            raise _Wrong("email", changed["email"], "an address no one else has")
        wanted = (
            status
            if status in ("active", "suspended")
            and status != person.status
            and person.status in ("active", "suspended")
            else None
        )
        if self.how.known == "leave":
            return Step(number, "leave", self.accounts.tree.codes[place], person.username, {}, None, [], [])
        return Step(
            number, "update", self.accounts.tree.codes[place], person.username, changed, wanted, groups, products
        )

    def _by_address(self, email: str | None, row: int) -> Any | None:
        found = [
            each
            for each in self.by_email.get(email or "", [])
            if each.status != "removed" and self.accounts.row_of_id[each.account_id] in self.branch
        ]
        return next(
            (each for each in found if self.accounts.row_of_id[each.account_id] == row), found[0] if found else None
        )

    def _text(self, given: dict[str, str], name: str) -> str | None:
        text = given.get(name)
        if text is not None and not text.isprintable():
            raise _Wrong(name, text, "no line breaks or control characters")
        if text is not None and len(text) > 200:
            raise _Wrong(name, text, f"at most 200 characters; here are {len(text)}")
        return text

    def _name(self, given: dict[str, str]) -> str | None:
        whole = given.get("name") or " ".join(given[part] for part in ("first_name", "last_name") if part in given)
        return self._text({"name": whole}, "name") if whole else None

    def _email(self, given: dict[str, str]) -> str | None:
        try:
            return an_email(given.get("email"), "email")
        except Refused:
            raise _Wrong("email", given["email"], "an e-mail address") from None

    def _username(self, given: dict[str, str]) -> str:
        name = given.get("username", "")
        if name and not USERNAME.fullmatch(name):
            raise _Wrong("username", name, "letters, digits and . _ @ + - after the first, 128 at most")
        return name

    def _account(self, given: dict[str, str]) -> int:
        text = given.get("account")
        row = self.default if text is None else self.account_rows.get(text.lower())
        if row is None:
            raise _Wrong("account", text or "", "the code, or the name, of an account of the branch")
        return row

    def _protected(self, given: dict[str, str]) -> bool | None:
        text = given.get("protected")
        if text is not None and text.lower() not in TRUTH:
            raise _Wrong("protected", text, "yes or no")
        return None if text is None else TRUTH[text.lower()]

    def _status(self, given: dict[str, str]) -> str | None:
        text = given.get("status", "").lower()
        if text and text not in STATUSES:
            raise _Wrong("status", text, ", ".join(STATUSES))
        return text or None

    def _listed(self, given: dict[str, str], name: str, known: dict[str, str], what: str) -> list[str]:
        words = [part.strip() for part in re.split("[;,]", given.get(name, "")) if part.strip()]
        unknown = [word for word in words if word.lower() not in known]
        if unknown:
            raise _Wrong(name, unknown[0], f"{what}, by code or name, several with ; between")
        return [known[word.lower()] for word in words]


def have(tx: Transaction, usernames: Sequence[str]) -> set[tuple[str, str]]:
    """(username, product) of what these people have now."""
    products = pools_service.products(tx)
    code = {each.id: each.code for each in products}
    return (
        {(row.subject, code[row.product_id]) for row in usage.open_assignments(tx, products, usernames, tx.now)}
        if usernames
        else set()
    )


def conflicts(tx: Transaction, plan: ImportPlan) -> list[Conflict]:
    """What rows ask for that their people cannot have, whatever room there is: two of a family, an add-on without its
    base."""
    by_code = {each.code: each for each in pools_service.products(tx)}
    held: dict[str, set[str]] = defaultdict(set)
    known = [step.username for step in plan.steps if step.products and step.do == "update"]
    for username, code in have(tx, known):
        held[username].add(code)
    names = {username: row.display_name for username, row in people_service.by_username(tx, known).items()}
    found = []
    for step in plan.steps:
        mine = held[step.username] if step.do == "update" else set()
        asked = [code for code in step.products if code not in mine]
        for code, why in eligibility.conflicts(by_code, mine, asked) if step.do != "leave" else []:
            found.append(
                Conflict(
                    step.row,
                    step.facts.get("display_name") or names.get(step.username, step.username),
                    by_code[code].name,
                    why,
                )
            )
    return found


def seats_needed(tx: Transaction, actor: Actor, plan: ImportPlan) -> list[Needed]:
    """What the rows ask for, account by account, beside what there is room for; those short of seats first."""
    accounts, by_code = accounts_service.known(tx), {each.code: each for each in pools_service.products(tx)}
    there = have(tx, [step.username for step in plan.steps if step.products and step.do == "update"])
    wanted = Counter(
        (step.account, code)
        for step in plan.steps
        for code in step.products
        if step.do != "leave" and (step.username, code) not in there
    )
    found = []
    for (account, code), needed in wanted.most_common(SEATS_LOOKED_AT):
        try:
            room = assignments.room(tx, actor, account, by_code[code])
        except Refused:  # no pool reaches the account
            room = assignments.Room(0, 0)
        left = None if room.in_sight is None else max(0, room.in_sight)
        name, is_short = accounts.name(accounts.tree.row(account)), needed > room.real
        found.append(Needed(account, name, code, by_code[code].name, needed, left, is_short))

    def spare(each: Needed) -> float:
        return (math.inf if each.left is None else each.left) - each.needed

    return sorted(found, key=lambda each: (not each.is_short, spare(each), each.account, each.product))
