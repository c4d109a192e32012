"""What an act did, for whom it could not be done and why; and the acts that give and take seats."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Hashable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, TypeVar

from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.assignments import many
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.assignments.eligibility import RESERVED, Wanted
from fair_ladle.app.entitlements import service as entitlements_service
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people.rows import PersonRecord
from fair_ladle.app.people_admin import store
from fair_ladle.app.people_admin.leaving import Leaving, Stored
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import Refused, invalid
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product


@dataclass(frozen=True)
class ActOptions:
    """What an act needs besides people: the product (and the one it is swapped for, with what each component becomes,
    the one of the same code if not said, None = nothing), the account to move to, whether who is suspended keeps their
    seats, and what becomes of what leavers store."""

    product: str | None = None
    to_product: str | None = None
    to_account: str | None = None
    keep_seats: bool = True
    components: dict[str, str | None] | None = None
    leaving: Leaving = Leaving()


@dataclass(frozen=True)
class CouldNot:
    """Somebody for whom it could not be done, and why."""

    username: str
    name: str
    why: str


@dataclass(frozen=True)
class Seats:
    """Units of a product in an account: how many were needed and given, and how many more there is room for then, as
    far as the actor may see (None = nothing in their branch limits it)."""

    account: str
    account_name: str
    product: Product
    needed: int
    given: int
    left: int | None


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
    stored: list[Stored] = field(default_factory=list)
    """What they store in the account they leave."""


Way = TypeVar("Way", bound=Hashable)


class ActOnSeats:
    """One act under way, as far as it gives seats, takes them or keeps them aside."""

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
        given, why = many.as_many_as_fit(self.tx, people, give)
        if self.actor.people_of is not None:  # no figure of an account is theirs
            for each in people[len(given) :]:
                self._not(each, f"No {product.unit} left.")
            return given
        for each in people[len(given) :]:
            self._not(each, f"No {product.unit} left: {why}")
        self.outcome.seats.append(Seats(code, self.accounts.name(row), product, len(people), len(given), None))
        return given

    def look_what_is_left(self) -> None:
        """Tell how much more there is room for, all of it done."""
        self.outcome.seats = [replace(each, left=self._left(each)) for each in self.outcome.seats]

    def _left(self, of: Seats) -> int | None:
        try:
            left = assignments.room(self.tx, self.actor, of.account, of.product).in_sight
        except Refused:  # no pool reaches the account: the reason stands beside each of them
            return 0
        return None if left is None else max(0, left)

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
        for part in many.in_parts(units):
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
        for part in many.in_parts(seats):
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
