"""One act done to many people: each for whom it can be done, and for every other one the reason why not."""

from __future__ import annotations

import hashlib
import secrets
from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import replace
from datetime import timedelta
from typing import Literal

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts import settings as settings_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.assignments import many
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.assignments.eligibility import RESERVED, Wanted
from fair_ladle.app.entitlements import service as entitlements_service
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people.rows import PersonRecord
from fair_ladle.app.people_admin import leaving, store
from fair_ladle.app.people_admin.listing import MOST_AT_ONCE, Asked, conditions
from fair_ladle.app.people_admin.seat_acts import ActOnSeats, ActOptions, CouldNot, Outcome
from fair_ladle.app.plumbing import outbox
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.addresses import greeting, in_a_mail
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import invalid
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.sign_in import delegating
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.core.calendar import day_name

Act = Literal[
    "assign",
    "release",
    "swap",
    "suspend",
    "resume",
    "protect",
    "unprotect",
    "move",
    "remove",
    "restore",
    "invite",
    "revoke invitation",
    "reserve",
    "cancel reservation",
]
RESTORED_WITHIN = timedelta(days=30)


def act(tx: Transaction, actor: Actor, what: Act, asked: Asked, how: ActOptions | None = None) -> Outcome:
    """Do one thing to everybody of the branch who is asked for. It is whole for each of them, never for half of one;
    refused as a whole where what they leave behind cannot go where it was to."""
    accounts = accounts_service.known(tx)
    if what == "restore":
        asked = replace(asked, status="removed")
    ids = store.ids(tx.connection, conditions(tx, actor, accounts, asked), MOST_AT_ONCE + 1)
    if len(ids) > MOST_AT_ONCE:
        raise invalid(f"More than {MOST_AT_ONCE} people at once; choose fewer.", "people")
    how = how or ActOptions()
    chosen = how.leaving.what != "keep"
    if chosen and what not in ("move", "remove"):
        raise invalid("Only who is moved or removed leaves something behind.", "leaving")
    _rehearse(tx, ids, how)
    found = people_service.lock(tx, ids)
    outcome = Outcome(len(found))
    missing = sorted(set(asked.usernames or ()) - {each.username for each in found})
    outcome.could_not.extend(CouldNot(name, name, "is not here (any more).") for name in missing)
    doing = _Doing(tx, actor, accounts, outcome, how)
    ACTS[what](doing, found)
    doing.look_what_is_left()
    if what in ("move", "remove"):
        done = set(outcome.done)
        leavers = [each for each in found if each.username in done]
        there = leaving.settle(tx, actor, how.leaving, leavers, what == "move")
        outcome.stored = there if actor.people_of is None else []  # no figure of an account is theirs
    return outcome


def _rehearse(tx: Transaction, ids: Sequence[int], how: ActOptions) -> None:
    """Where it is only tried out: go on with copies of all that an act to these people touches."""
    if not tx.is_rehearsal:
        return
    people = people_service.lock(tx, ids)
    products = [each for each in pools_service.products(tx) if each.is_personal]
    usernames = [each.username for each in people]
    named = {how.product, how.to_product, *(code for each in people for code in each.kept or ())}
    concerned = [each for each in products if each.code in named]
    ids_of = [each.id for each in products]
    had = {row.product_id for row in store.held_by(tx.connection, ids_of, usernames, tx.now)}
    reserved = {code for _, code, _ in assignments.reserved_seats(tx, products, usernames)}
    concerned += [each for each in products if (each.id in had or each.code in reserved) and each.code not in named]
    assignments.rehearse(tx, concerned, usernames)
    entitlements_service.rehearse(tx, [each.id for each in concerned], ids)
    sign_in_service.rehearse(tx)
    taker = people_service.by_username(tx, [how.leaving.to or ""])
    people_service.rehearse(tx, [*ids, *(each.id for each in taker.values())])


class _Doing(ActOnSeats):
    """One act under way."""

    def suspend(self, people: list[PersonRecord]) -> None:
        able = self._those(
            people, lambda each: each.status in ("active", "invited"), lambda each: f"is {each.status} already."
        )
        held = {} if self.how.keep_seats else self._held(able)
        self._take([(name, product, account) for name, mine in held.items() for product, account in mine])
        for kept, mine in self._alike(
            able, lambda each: tuple(product.code for product, _ in held.get(each.username, []))
        ):
            people_service.change(self.tx, mine, {"status": "suspended", "kept": list(kept) or None})
        self._end_running(able)
        self._log("suspended", able, {"seats": "kept" if self.how.keep_seats else "released"})

    def _end_running(self, people: Sequence[PersonRecord]) -> None:
        """Who is suspended or removed runs nothing of this branch any more, at once."""
        self.outcome.run_no_more = delegating.end_of(self.tx, self.actor, [each.email for each in people if each.email])

    def resume(self, people: list[PersonRecord]) -> None:
        able = self._those(
            people, lambda each: each.status == "suspended", lambda each: f"is {each.status}, not suspended."
        )
        able = self._where_they_can_be(able)
        for status, ids in self._alike(able, _status_again):
            people_service.change(self.tx, ids, {"status": status, "kept": None})
        self._log("resumed", able)
        # What others need comes first, whoever has it.
        for product in sorted(self.products.values(), key=lambda each: bool(each.requires)):
            mine = [each for each in able if product.code in (each.kept or ())]
            if mine:
                self._give_as_far(product, mine)

    def _where_they_can_be(self, people: Sequence[PersonRecord]) -> list[PersonRecord]:
        """Those whose account is there for them to come back to."""
        accounts = self.accounts
        closed = {
            each
            for each in {person.account_id for person in people}
            if accounts.status(accounts.row_of_id[each]) == "closed"
        }
        return self._those(
            people,
            lambda each: each.account_id not in closed,
            lambda each: f"is of {accounts.name(accounts.row_of_id[each.account_id])}, which is closed.",
        )

    def protect(self, people: list[PersonRecord]) -> None:
        self._protected(people, True)

    def unprotect(self, people: list[PersonRecord]) -> None:
        self._protected(people, False)

    def _protected(self, people: list[PersonRecord], protected: bool) -> None:
        able = self._those(
            people,
            lambda each: bool(each.protected) != protected,
            lambda _: f"is {'' if protected else 'not '}protected already.",
        )
        people_service.change(self.tx, [each.id for each in able], {"protected": protected})
        self._log("protected" if protected else "protection taken off", able)

    def move(self, people: list[PersonRecord]) -> None:
        """To another account: seats are counted and charged there from now on; bytes stay where they were stored."""
        target = accounts_service.row_in_scope(self.accounts, self.actor, self.how.to_account or "")
        code, name = self.accounts.tree.codes[target], self.accounts.name(target)
        if self.accounts.status(target) != "active":
            raise invalid(f"{name} is {self.accounts.status(target)}; no one can be moved there.", "to_account")
        target_id = int(self.accounts.ids[target])
        able = self._those(people, lambda each: each.account_id != target_id, lambda _: f"is of {name} already.")
        held = self._held(able)
        reservations: dict[str, list[tuple[str, str]]] = defaultdict(list)
        for username, product_code, account in assignments.reserved_seats(
            self.tx, list(self.product_of.values()), [each.username for each in able]
        ):
            reservations[username].append((product_code, account))

        def move(some: Sequence[PersonRecord]) -> None:
            there = [
                (each.username, product, account) for each in some for product, account in held.get(each.username, [])
            ]
            units = [
                Wanted(account, product.code, username)
                for username, product, account in sorted(there, key=lambda each: bool(each[1].requires))
            ]
            units += [
                Wanted(account, product_code, RESERVED + each.username)
                for each in some
                for product_code, account in reservations[each.username]
            ]
            for part in many.in_parts(units):
                assignments.release(self.tx, self.actor, part)
            for was_in, ids in self._alike(some, lambda each: tuple(sorted({*(each.was_in or ()), each.account_id}))):
                people_service.change(self.tx, ids, {"account_id": target_id, "was_in": list(was_in)})
            for part in many.in_parts([replace(each, account=code) for each in units]):
                assignments.admit(self.tx, self.actor, part)

        def takes(person: PersonRecord) -> set[tuple[str, str]]:
            seats = {(account, product.code) for product, account in held.get(person.username, [])}
            return seats | {(account, product_code) for product_code, account in reservations[person.username]}

        moved, refused = many.each_that_can(self.tx, able, move, lambda each: each.username, takes)
        for each, why in refused:
            self._not(each, why)
        # Either account's log tells its own side, and neither names the other.
        log_service.write(
            self.tx,
            self.actor,
            None,
            [log_service.Entry("moved away", each.username, each.account_id) for each in moved],
        )
        log_service.write(
            self.tx, self.actor, None, [log_service.Entry("moved here", each.username, target_id) for each in moved]
        )
        self.outcome.done.extend(each.username for each in moved)

    def remove(self, people: list[PersonRecord]) -> None:
        held = self._held(people)
        self._take([(name, product, account) for name, mine in held.items() for product, account in mine])
        self._cancel_reservations(
            assignments.reserved_seats(self.tx, list(self.product_of.values()), [each.username for each in people])
        )
        people_service.change(
            self.tx, [each.id for each in people], {"status": "removed", "removed_at": self.tx.now, "kept": None}
        )
        people_service.withdraw_invitations(self.tx, [each.id for each in people])
        self._end_running(people)
        self._log("removed", people)

    def restore(self, people: list[PersonRecord]) -> None:
        able = self._those(
            people,
            lambda each: each.removed_at is None or self.tx.now - each.removed_at <= RESTORED_WITHIN,
            lambda _: f"was removed more than {RESTORED_WITHIN.days} days ago.",
        )
        by_email = people_service.by_email(self.tx, {each.email.lower() for each in able if each.email})
        taken = {
            (there.account_id, email): there.display_name
            for email, mine in by_email.items()
            for there in mine
            if there.status != "removed"
        }
        able = self._those(
            self._where_they_can_be(able),
            lambda each: (each.account_id, (each.email or "").lower()) not in taken,
            lambda each: f"has the address that {taken[each.account_id, (each.email or '').lower()]} has by now.",
        )
        for status, ids in self._alike(able, _status_again):
            people_service.change(self.tx, ids, {"status": status, "removed_at": None})
        self._log("restored", able)

    def invite(self, people: list[PersonRecord]) -> None:
        invited = []
        for each in people:
            if each.status != "invited":
                self._not(each, f"is {each.status}; only who has not joined yet is invited again.")
            elif not each.email:
                self._not(each, "has no e-mail address.")
            else:
                invited.append(each)
        send_invitations(self.tx, self.actor, self.accounts, invited)
        self._log("invited", invited)

    def withdraw(self, people: list[PersonRecord]) -> None:
        """The links that are out stop working; they can be invited again."""
        able = self._those(
            people,
            lambda each: each.status == "invited",
            lambda each: f"is {each.status}; only who has not joined yet has an invitation.",
        )
        people_service.withdraw_invitations(self.tx, [each.id for each in able])
        self._log("invitation withdrawn", able)


ACTS: dict[Act, Callable[[_Doing, list[PersonRecord]], None]] = {
    "assign": _Doing.assign,
    "release": _Doing.release,
    "swap": _Doing.swap,
    "suspend": _Doing.suspend,
    "resume": _Doing.resume,
    "protect": _Doing.protect,
    "unprotect": _Doing.unprotect,
    "move": _Doing.move,
    "remove": _Doing.remove,
    "restore": _Doing.restore,
    "invite": _Doing.invite,
    "revoke invitation": _Doing.withdraw,
    "reserve": _Doing.reserve,
    "cancel reservation": _Doing.cancel_reservation,
}


def send_invitations(tx: Transaction, actor: Actor, accounts: Accounts, people: Sequence[PersonRecord]) -> None:
    """A new invitation for each, valid as long as its account has set; earlier ones stop working. Only a token's hash
    is kept."""
    tokens, now, address = {each.id: secrets.token_urlsafe(32) for each in people}, tx.now, tx.settings.address
    rows = {each.id: accounts.row_of_id[each.account_id] for each in people}
    days = settings_service.in_force(tx, accounts, sorted(set(rows.values())))
    until = {each.id: now + timedelta(days=days[rows[each.id]]["invitation"]) for each in people}
    for end in set(until.values()):
        mine = {each: tokens[each] for each, day in until.items() if day == end}
        hashes = {each: hashlib.sha256(token.encode()).hexdigest() for each, token in mine.items()}
        people_service.invite(tx, hashes, now, end)
    mails = []
    for each in people:
        if not each.email:
            continue
        account = in_a_mail(accounts.name(accounts.row_of_id[each.account_id]), "an account")
        by = in_a_mail(actor.name, "An administrator")
        mails.append(
            (
                each.email,
                f"{by} invites you to {account}",
                f"{greeting(each.display_name)}\n\n{by} has set you up at {account}. Accept "
                f"by {day_name(until[each.id])}:\n\n"
                f"{address}/join/{tokens[each.id]}\n\nIf you did not expect this, do nothing.\n\nFair Ladle\n",
            )
        )
    outbox.write_all(tx, mails)


def _status_again(person: PersonRecord) -> str:
    return people_service.status_again(person.last_seen_at, person.invited_at)
