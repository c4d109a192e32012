"""One act done to many people: each for whom it can be done, and for every other one the reason why not."""

from __future__ import annotations

import hashlib
import secrets
from collections import defaultdict
from collections.abc import Callable, Collection, Hashable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from datetime import timedelta
from functools import partial
from typing import Any, Literal, TypeVar

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts import settings as settings_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.assignments.eligibility import RESERVED, Wanted
from fair_ladle.app.entitlements import service as entitlements_service
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people.rows import PersonRecord
from fair_ladle.app.people_admin import store
from fair_ladle.app.people_admin.listing import MOST_AT_ONCE, Asked, conditions
from fair_ladle.app.plumbing import outbox
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.addresses import greeting, in_a_mail
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import Refused, invalid
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
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


@dataclass(frozen=True)
class ActOptions:
    """What an act needs besides people: the product (and the one it is swapped for, with what each component becomes,
    the one of the same code if not said, None = nothing), the account to move to, whether who is suspended keeps their
    seats."""

    product: str | None = None
    to_product: str | None = None
    to_account: str | None = None
    keep_seats: bool = True
    components: dict[str, str | None] | None = None


@dataclass(frozen=True)
class CouldNot:
    """Somebody for whom it could not be done, and why."""

    username: str
    name: str
    why: str


@dataclass(frozen=True)
class Seats:
    """Units of a product in an account: how many were needed and given, and how many more there is room for then."""

    account: str
    account_name: str
    product: Product
    needed: int
    given: int
    left: int


@dataclass
class Outcome:
    """What an act did."""

    asked: int
    done: list[str] = field(default_factory=list)
    could_not: list[CouldNot] = field(default_factory=list)
    seats: list[Seats] = field(default_factory=list)
    released: int = 0
    run_no_more: int = 0
    """Delegations that ended with it."""
    lost: dict[str, int] = field(default_factory=dict)
    """Components that a swap has nothing for, with how many people had each on."""


def act(tx: Transaction, actor: Actor, what: Act, asked: Asked, how: ActOptions | None = None) -> Outcome:
    """Do one thing to everybody of the branch who is asked for. It is whole for each of them, never for half of one."""
    accounts = accounts_service.known(tx)
    if what == "restore":
        asked = replace(asked, status="removed")
    ids = store.ids(tx.connection, conditions(tx, actor, accounts, asked), MOST_AT_ONCE + 1)
    if len(ids) > MOST_AT_ONCE:
        raise invalid(f"More than {MOST_AT_ONCE} people at once; choose fewer.", "people")
    how = how or ActOptions()
    _rehearse(tx, ids, how)
    found = people_service.lock(tx, ids)
    outcome = Outcome(len(found))
    missing = sorted(set(asked.usernames or ()) - {each.username for each in found})
    outcome.could_not.extend(CouldNot(name, name, "is not here (any more).") for name in missing)
    doing = _Doing(tx, actor, accounts, outcome, how)
    ACTS[what](doing, found)
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
    people_service.rehearse(tx, ids)


Way = TypeVar("Way", bound=Hashable)


class _Doing:
    """One act under way."""

    def __init__(self, tx: Transaction, actor: Actor, accounts: Accounts, outcome: Outcome, how: ActOptions):
        self.tx, self.actor, self.accounts, self.outcome, self.how = tx, actor, accounts, outcome, how
        self.products = {each.code: each for each in pools_service.products(tx)}
        self.product_of = {each.id: each for each in self.products.values()}

    def _named(self, code: str | None, where: str) -> Product:
        found = self.products.get(code or "")
        if found is None or found.measure != "seat":
            raise invalid("Choose a product that people have seats of.", where)
        return found

    def _code(self, person: PersonRecord) -> str:
        return self.accounts.tree.codes[self.accounts.row_of_id[person.account_id]]

    def _not(self, person: PersonRecord, why: str) -> None:
        self.outcome.could_not.append(CouldNot(person.username, person.display_name, why))

    def _log(self, action: str, people: Sequence[PersonRecord], after: dict[str, Any] | None = None) -> None:
        log_service.write(
            self.tx,
            self.actor,
            None,
            [log_service.Entry(action, each.username, each.account_id, None, after) for each in people],
        )
        self.outcome.done.extend(each.username for each in people)

    def _held(self, people: Sequence[PersonRecord]) -> dict[str, list[tuple[Product, str]]]:
        """What each has: product, and the code of the account it is counted in."""
        found: dict[str, list[tuple[Product, str]]] = defaultdict(list)
        for row in store.held_by(
            self.tx.connection,
            [each.id for each in self.product_of.values() if each.is_personal],
            [each.username for each in people],
            self.tx.now,
        ):
            found[row.subject].append(
                (self.product_of[row.product_id], self.accounts.tree.codes[self.accounts.row_of_id[row.account_id]])
            )
        return found

    def _by_account(self, people: Sequence[PersonRecord]) -> list[tuple[int, list[PersonRecord]]]:
        groups: dict[int, list[PersonRecord]] = defaultdict(list)
        for each in people:
            groups[each.account_id].append(each)
        return sorted(
            groups.items(), key=lambda each: (-self.accounts.tree.depth(self.accounts.row_of_id[each[0]]), each[0])
        )

    def _those(
        self, people: Sequence[PersonRecord], can: Callable[[PersonRecord], bool], why: Callable[[PersonRecord], str]
    ) -> list[PersonRecord]:
        """Those to whom it can be done; why not is told of the others."""
        able = []
        for each in people:
            if can(each):
                able.append(each)
            else:
                self._not(each, why(each))
        return able

    @staticmethod
    def _alike(people: Sequence[PersonRecord], way: Callable[[PersonRecord], Way]) -> Iterable[tuple[Way, list[int]]]:
        """The numbers of those who come to the same."""
        groups: dict[Way, list[int]] = defaultdict(list)
        for each in people:
            groups[way(each)].append(each.id)
        return groups.items()

    def _as_many_as_fit(
        self, account_id: int, product: Product, people: list[PersonRecord], give: Callable[[list[PersonRecord]], None]
    ) -> list[PersonRecord]:
        """Give to all, or, where a limit stops it, to as many of the first as it lets through; those it was given
        to."""
        row = self.accounts.row_of_id[account_id]
        code = self.accounts.tree.codes[row]
        room = partial(assignments.room, self.tx, self.actor, code, product)
        given, why = assignments.as_many_as_fit(self.tx, people, room, give)
        if self.actor.people_of is not None:  # no figure of an account is theirs
            for each in people[len(given) :]:
                self._not(each, f"No {product.unit} left.")
            return given
        for each in people[len(given) :]:
            self._not(each, f"No {product.unit} left: {why}")
        try:
            left = max(0, assignments.room(self.tx, self.actor, self.accounts.tree.codes[row], product))
        except Refused:  # no pool reaches the account: the reason stands beside each of them
            left = 0
        self.outcome.seats.append(
            Seats(self.accounts.tree.codes[row], self.accounts.name(row), product, len(people), len(given), left)
        )
        return given

    def assign(self, people: list[PersonRecord]) -> None:
        self.outcome.done.extend(self._give_as_far(self._named(self.how.product, "product"), people))

    def _give_as_far(self, product: Product, people: Sequence[PersonRecord]) -> list[str]:
        """Give a product to all against whom nothing speaks, as far as there are seats; to whom."""
        given, able = list[str](), self._able(product, people)
        kept = {
            username
            for username, _, _ in assignments.reserved_seats(self.tx, [product], [each.username for each in able])
        }
        assignments.judge_whole(self.tx, self.actor, product, [(self._code(each), each.username) for each in able])
        able.sort(key=lambda each: each.username not in kept)
        for account_id, mine in self._by_account(able):
            given.extend(
                each.username
                for each in self._as_many_as_fit(account_id, product, mine, lambda part: self._give(part, product))
            )
        return given

    def _able(
        self, product: Product, people: Sequence[PersonRecord], leaving: Collection[str] = ()
    ) -> list[PersonRecord]:
        """Those against whom nothing speaks but perhaps a limit; what speaks against the others is told."""
        against = assignments.what_speaks_against(self.tx, product, people, leaving)
        return self._those(people, lambda each: each.username not in against, lambda each: against[each.username])

    def _give(self, people: Sequence[PersonRecord], product: Product) -> None:
        assignments.give(self.tx, self.actor, product, [(self._code(each), each.username) for each in people])

    def _take(self, units: Sequence[tuple[str, Product, str]]) -> None:
        """Release (username, product, account)."""
        for part in assignments.in_parts(units):
            assignments.release(
                self.tx, self.actor, [Wanted(account, product.code, username) for username, product, account in part]
            )
        self.outcome.released += len(units)

    def reserve(self, people: list[PersonRecord]) -> None:
        """Count a seat for each, so that nobody else gets it; it is given to them when somebody or a layer gives it."""
        product, held = self._named(self.how.product, "product"), self._held(people)
        kept = {
            username
            for username, _, _ in assignments.reserved_seats(self.tx, [product], [each.username for each in people])
        }
        for each in people:
            if each.username in kept:
                self._not(each, f"has a seat of {product.name} set aside already.")
            elif any(have.code == product.code for have, _ in held.get(each.username, [])):
                self._not(each, f"has {product.name} already.")
        able = [
            each
            for each in people
            if each.username not in kept and all(have.code != product.code for have, _ in held.get(each.username, []))
        ]
        for account_id, mine in self._by_account(able):

            def keep(part: list[PersonRecord]) -> None:
                assignments.admit(
                    self.tx,
                    self.actor,
                    [Wanted(self._code(each), product.code, RESERVED + each.username) for each in part],
                )

            self._log(
                "seat set aside", self._as_many_as_fit(account_id, product, mine, keep), {"product": product.code}
            )

    def cancel_reservation(self, people: list[PersonRecord]) -> None:
        product = self._named(self.how.product, "product")
        kept = {
            username: account
            for username, _, account in assignments.reserved_seats(
                self.tx, [product], [each.username for each in people]
            )
        }
        able = self._those(
            people, lambda each: each.username in kept, lambda _: f"has no seat of {product.name} set aside."
        )
        self._cancel_reservations([(each.username, product.code, kept[each.username]) for each in able])
        self._log("set-aside seat let go", able, {"product": product.code})

    def _cancel_reservations(self, seats: Sequence[tuple[str, str, str]]) -> None:
        """Release what is set aside: (username, product, account)."""
        for part in assignments.in_parts(seats):
            assignments.release(
                self.tx,
                self.actor,
                [Wanted(account, code, RESERVED + username) for username, code, account in part],
            )
        self.outcome.released += len(seats)

    def release(self, people: list[PersonRecord]) -> None:
        product, held = self._named(self.how.product, "product"), self._held(people)
        layered = entitlements_service.comes_by_a_layer(self.tx, product, [each.id for each in people])
        units = []
        for each in people:
            mine = {have.code: account for have, account in held.get(each.username, [])}
            needing = [
                have
                for have, _ in held.get(each.username, [])
                if product.code in have.requires and not set(have.requires) & (set(mine) - {product.code})
            ]
            if product.code not in mine:
                self._not(each, f"has no {product.name}.")
            elif each.id in layered:
                self._not(each, f"has {product.name} by an entitlement; it is released when none gives it any more.")
            elif needing:
                self._not(each, f"has {needing[0].name}, which needs {product.name}; release that first.")
            else:
                units.append((each.username, product, mine[product.code]))
                self.outcome.done.append(each.username)
        self._take(units)

    def swap(self, people: list[PersonRecord]) -> None:
        old, new = self._named(self.how.product, "product"), self._named(self.how.to_product, "to_product")
        if old.code == new.code:
            raise invalid("Swap one product for another one.", "to_product")
        mapped = {
            each: (self.how.components or {}).get(each, each if each in new.components else None)
            for each in old.components
        }
        unknown = sorted(
            {each for each in (self.how.components or {}) if each not in old.components}
            | {each for each in mapped.values() if each and each not in new.components}
        )
        if unknown:
            raise invalid(f"There is no component {unknown[0]} to map.", "components")
        ids = {each.username: each.id for each in people}
        held = self._held(people)
        layered = entitlements_service.comes_by_a_layer(self.tx, old, [each.id for each in people])
        people = self._those(
            people,
            lambda each: each.id not in layered,
            lambda _: f"has {old.name} by an entitlement; change the entitlement instead.",
        )
        has = {
            each.username: account
            for each in people
            for have, account in held.get(each.username, [])
            if have.code == old.code
        }
        having = self._those(people, lambda each: each.username in has, lambda _: f"has no {old.name}.")

        def swap(part: list[PersonRecord]) -> None:
            assignments.release(
                self.tx, self.actor, [Wanted(has[each.username], old.code, each.username) for each in part]
            )
            self._give(part, new)

        for account_id, mine in self._by_account(self._able(new, having, {old.code})):
            self.outcome.done.extend(each.username for each in self._as_many_as_fit(account_id, new, mine, swap))
        self.outcome.released = len(self.outcome.done)
        self.outcome.lost = entitlements_service.carry_over(
            self.tx, old, new, mapped, [ids[each] for each in self.outcome.done]
        )

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
            for part in assignments.in_parts(units):
                assignments.release(self.tx, self.actor, part)
            for was_in, ids in self._alike(some, lambda each: tuple(sorted({*(each.was_in or ()), each.account_id}))):
                people_service.change(self.tx, ids, {"account_id": target_id, "was_in": list(was_in)})
            for part in assignments.in_parts([replace(each, account=code) for each in units]):
                assignments.admit(self.tx, self.actor, part)

        moved, refused = assignments.each_that_can(self.tx, able, move)
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
