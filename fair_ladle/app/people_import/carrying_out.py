"""What becomes of the rows of one part of a table: each step done as far as it still can be, and why it was not."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people_admin import acting
from fair_ladle.app.people_admin import groups as groups_usecases
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.people_admin.seat_acts import ActOptions
from fair_ladle.app.people_admin.service import usernames_for
from fair_ladle.app.people_import.planning import (
    Step,
    have,
)
from fair_ladle.app.people_import.rows import ImportRecord
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import Refused
from fair_ladle.app.pools import service as pools_service


@dataclass
class _Did:
    """What came of one step."""

    step: Step
    username: str
    what: str
    why: str = ""
    had: list[str] = field(default_factory=list)

    def as_kept(self) -> list[Any]:
        """As it is kept: row, username, what was done, what was not and why, the groups to come, and the products that
        somebody who left had."""
        return [
            self.step.row,
            self.username,
            self.what,
            self.why,
            [] if self.what in ("left", "not done") else self.step.groups,
            self.had,
        ]


def carry_out(tx: Transaction, actor: Actor, row: ImportRecord, steps: list[Step]) -> list[list[Any]]:
    """Do the steps of one part, all in this transaction; what came of each, as it is kept (``_Did.as_kept``)."""
    every = [
        _Did(
            step,
            step.username,
            {"create": "created", "link": "linked", "update": "brought up to date", "leave": "left"}[step.do],
        )
        for step in steps
    ]
    able = _still_able(tx, actor, every)
    _create(tx, actor, row, [each for each in able if each.step.do in ("create", "link")])
    _leave(tx, actor, [each for each in able if each.step.leaving and each.step.do == "update"])
    _come_back(tx, actor, [each for each in able if each.step.back])
    _update(
        tx, actor, [each for each in able if each.step.do == "update" and not each.step.leaving and not each.step.back]
    )
    _assign(tx, actor, [each for each in able if each.what not in ("left", "not done")])
    return [each.as_kept() for each in every]


def _still_able(tx: Transaction, actor: Actor, every: Sequence[_Did]) -> list[_Did]:
    """What can still be done: accounts and people may have moved or gone since the table was looked at."""
    accounts = accounts_service.known(tx)
    top = accounts_service.top_row(accounts, actor)
    known = people_service.by_username(tx, [each.username for each in every if each.step.do == "update"])
    able = []
    for each in every:
        person = known.get(each.username)
        place = (
            accounts.row_of_id[person.account_id]
            if person is not None
            else accounts.tree.row(each.step.account)
            if each.step.account in accounts.tree
            else None
        )
        gone = person is not None and person.status == "removed" and not each.step.back
        if place is None or not accounts.tree.is_inside(place, top) or gone:
            each.what, each.why = (
                "not done",
                "they are not here any more."
                if each.step.do == "update"
                else f"{each.step.account} is not here any more.",
            )
        elif each.step.do in ("create", "link") and accounts.status(place) != "active":
            each.what, each.why = "not done", f"{accounts.name(place)} is {accounts.status(place)} by now."
        else:
            able.append(each)
    return able


def _addresses_seen(tx: Transaction, actor: Actor, emails: set[str]) -> dict[str, list[Any]]:
    """People by address, as far as the actor sees them."""
    accounts = accounts_service.known(tx)
    return {
        email: [each for each in there if accounts_service.sees(accounts, actor, each.account_id)]
        for email, there in people_service.by_email(tx, emails).items()
    }


def _create(tx: Transaction, actor: Actor, row: ImportRecord, wanted: Sequence[_Did]) -> None:
    """New people, unless their address or username has been taken since the table was looked at."""
    emails = _addresses_seen(
        tx,
        actor,
        {each.step.facts["email"] for each in wanted if each.step.do == "create" and "email" in each.step.facts},
    )
    taken = people_service.by_username(tx, [each.username for each in wanted if each.username])
    able = []
    for each in wanted:
        if (
            any(there.status != "removed" for there in emails.get(each.step.facts.get("email", ""), []))
            and each.step.do == "create"
        ):
            each.what, each.why = "not done", "the address has come in otherwise meanwhile."
        elif each.username in taken:
            each.what, each.why = "not done", "the username was taken meanwhile."
        else:
            able.append(each)
    nameless = sorted((each for each in able if not each.username), key=lambda each: each.step.row)
    for each, username in zip(
        nameless,
        usernames_for(tx, [each.step.facts["display_name"] for each in nameless], {each.username for each in able}),
        strict=True,
    ):
        each.username = username
    if not able:
        return
    accounts, now = accounts_service.known(tx), tx.now
    ids = {each.step.account: int(accounts.ids[accounts.tree.row(each.step.account)]) for each in able}
    added = people_service.add(
        tx,
        [
            {
                "account_id": ids[each.step.account],
                "username": each.username,
                "display_name": each.step.facts["display_name"],
                "email": each.step.facts.get("email"),
                "status": each.step.status,
                "invited_at": now if each.step.status == "invited" else None,
                "title": each.step.facts.get("title"),
                "department": each.step.facts.get("department"),
                "protected": each.step.facts.get("protected", False),
            }
            for each in able
        ],
    )
    log_service.write(
        tx,
        actor,
        None,
        [
            log_service.Entry(
                "added",
                each.username,
                ids[each.step.account],
                None,
                {"name": each.step.facts["display_name"], "status": each.step.status, "from": row.name},
            )
            for each in able
        ],
    )
    acting.send_invitations(
        tx, actor, accounts, [added[each.username] for each in able if each.step.status == "invited"]
    )


def _update(tx: Transaction, actor: Actor, wanted: Sequence[_Did]) -> None:
    known = people_service.by_username(tx, [each.username for each in wanted])
    emails = _addresses_seen(tx, actor, {each.step.facts["email"] for each in wanted if "email" in each.step.facts})
    entries = []
    for each in wanted:
        person = known[each.username]
        if any(
            there.status != "removed" and there.id != person.id
            for there in emails.get(each.step.facts.get("email", ""), [])
        ) and person.email != each.step.facts.get("email"):
            each.what, each.why = "not done", "the address has come in otherwise meanwhile."
            continue
        before = {
            name: getattr(person, name) for name, value in each.step.facts.items() if getattr(person, name) != value
        }
        if before:
            after = {name: each.step.facts[name] for name in before}
            people_service.change(tx, [person.id], after)
            entries.append(log_service.Entry("changed", each.username, person.account_id, before, after))
        elif not each.step.status and not each.step.products and not each.step.groups:
            each.what = "as it was"
    log_service.write(tx, actor, None, entries)
    able = [each for each in wanted if each.what != "not done"]
    _act(tx, actor, "suspend", [each for each in able if each.step.status == "suspended"])
    _act(tx, actor, "resume", [each for each in able if each.step.status == "active"])


LEFT = {"suspend": "suspended", "release": "suspended, seats released", "remove": "removed"}


def _leave(tx: Transaction, actor: Actor, wanted: Sequence[_Did]) -> None:
    """Suspend or remove people; what they had is kept for whoever reverses it."""
    had: dict[str, list[str]] = defaultdict(list)
    for username, product in sorted(have(tx, [each.username for each in wanted])):
        had[username].append(product)
    for leaving, said in LEFT.items():
        mine = [each for each in wanted if each.step.leaving == leaving]
        for each in mine:
            each.what, each.had = said, had[each.username]
        act: acting.Act = "remove" if leaving == "remove" else "suspend"
        _act(tx, actor, act, mine, ActOptions(keep_seats=leaving == "suspend"))
        for each in mine:
            if each.why:
                each.what, each.had = "not done", []


def _come_back(tx: Transaction, actor: Actor, wanted: Sequence[_Did]) -> None:
    """Restore and resume people; their products are assigned again with the others'."""
    known = people_service.by_username(tx, [each.username for each in wanted])
    for act, status in (("restore", "removed"), ("resume", "suspended")):
        mine = [each for each in wanted if known[each.username].status == status]
        _act(tx, actor, act, mine)  # type: ignore[arg-type]
    for each in wanted:
        each.what = "not done" if each.why else "reinstated"


def _assign(tx: Transaction, actor: Actor, wanted: Sequence[_Did]) -> None:
    there = have(tx, [each.username for each in wanted if each.step.products])
    by_product: dict[str, list[_Did]] = defaultdict(list)
    for each in wanted:
        for product in each.step.products:
            if (each.username, product) not in there:
                by_product[product].append(each)
    # What others need comes first: nobody is refused an add-on for a base product of the same row.
    for product in sorted(by_product, key=lambda code: bool(pools_service.product(tx, code).requires)):
        _act(tx, actor, "assign", by_product[product], ActOptions(product=product))


def _act(
    tx: Transaction, actor: Actor, what: acting.Act, wanted: Sequence[_Did], how: ActOptions | None = None
) -> None:
    if not wanted:
        return
    by_name = {each.username: each for each in wanted}
    for each in acting.act(tx, actor, what, Asked(usernames=tuple(by_name)), how).could_not:
        if each.username in by_name:
            by_name[each.username].why = " ".join(
                filter(
                    None,
                    [by_name[each.username].why, f"{each.name} {each.why}" if each.why[:1].islower() else each.why],
                )
            )


def into_groups(tx: Transaction, actor: Actor, outcome: Sequence[Any]) -> str | None:
    """Everybody who came into their groups, once for each group; why not, where one cannot be changed any more."""
    into: dict[str, list[str]] = defaultdict(list)
    for _, username, _, _, groups, *_ in outcome:
        for group in groups:
            into[group].append(username)
    troubles = []
    for group, usernames in sorted(into.items()):
        try:
            with tx.connection.begin_nested():
                groups_usecases.members(tx, actor, group, usernames, [])
        except Refused as refused:
            troubles.append(f"{group}: {refused.problem.detail}")
    return " ".join(troubles) or None
