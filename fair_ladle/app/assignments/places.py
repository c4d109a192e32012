"""Where units are counted: each account's pool of a product and its way up, kept while the structure stays the same."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import date
from threading import Lock
from typing import Any, TypeVar
from zoneinfo import ZoneInfo

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.assignments import store
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.prepared import Question
from fair_ladle.app.plumbing.problems import Refused, conflict, invalid, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.core.calendar import local_day

Result = TypeVar("Result")


@dataclass(frozen=True)
class Place:
    """The account, its pool, and the way up to the root: id, code and name of each, the pool's owner at ``owner``."""

    account_id: int
    code: str
    product: Product
    pool_id: int
    owner: int
    way_up: tuple[tuple[int, str, str], ...]
    restrained: tuple[int, str] | None
    """Place on the way up, and status, of the nearest account that is suspended or closed."""

    @property
    def depth(self) -> int:
        """How many accounts stand above it."""
        return len(self.way_up) - 1

    @property
    def to_owner(self) -> tuple[tuple[int, str, str], ...]:
        """The way up to the pool's owner."""
        return self.way_up[: self.owner + 1]

    @property
    def owner_code(self) -> str:
        """The account that owns the pool."""
        return self.way_up[self.owner][1]

    def why_restrained(self, scope: str | None) -> str | None:
        """Why nothing new is given out here; an account above the scope is not named."""
        if self.restrained is None:
            return None
        at, status = self.restrained
        inside = self.in_scope(scope) and all(code != scope for _, code, _ in self.way_up[:at])
        name = self.way_up[at][2] if inside else f"An account above {self.way_up[0][2]}"
        return f"{name} is {status}: what there is stays, and nothing new is given out."

    def judge_restraint(self, scope: str | None) -> None:
        """Refused where nothing new is given out here."""
        why = self.why_restrained(scope)
        if why is not None:
            raise conflict(why)

    def in_scope(self, scope: str | None) -> bool:
        """Whether an account (None = the installation) stands on the way up."""
        return scope is None or any(code == scope for _, code, _ in self.way_up)


@dataclass
class Directory:
    """The structure as of one number, and the places looked up in it so far, by day, account and product."""

    number: int
    zone: ZoneInfo
    products: dict[str, Product]
    places: dict[tuple[date, str, str], Place] = field(default_factory=dict)
    reached: dict[tuple[int, int], int] = field(default_factory=dict)
    """How many counters of the way up were locked the last time, by pool and account."""

    def product(self, code: str) -> Product:
        """A product by its code; refused where there is none, or where it is measured by bytes."""
        found = self.products.get(code)
        if found is None:
            raise not_found("product", code)
        if found.is_storage:
            raise invalid(f"{found.name} is measured by what is stored; nothing of it is assigned.", "product")
        return found

    def place(self, tx: Transaction, day: date, account: str, product: Product, scope: str | None) -> Place:
        """Where an account's units of a product are counted; refused where it is out of scope or no pool reaches it."""
        key = (day, account, product.code)
        place = self.places.get(key)
        if place is None:
            way = store.way_up(tx.connection, account, product.id, day)
            owner = next((at for at, each in enumerate(way) if each.pool_id is not None), None)
            if not way or (scope is not None and all(each.code != scope for each in way)):
                raise not_found("account", account)
            if owner is None:
                raise invalid(f"Neither {account} nor any account above it has a pool of {product.name}.", "product")
            pool_id = way[owner].pool_id
            assert pool_id is not None
            place = Place(
                way[0].id,
                account,
                product,
                pool_id,
                owner,
                tuple((each.id, each.code, each.name) for each in way),
                next(((at, each.status) for at, each in enumerate(way) if each.status), None),
            )
            if len(self.places) > MOST_PLACES:
                self.places.clear()
                self.reached.clear()
            self.places[key] = place
        if not place.in_scope(scope):
            raise not_found("account", account)
        return place

    def lock_way(
        self, tx: Transaction, place: Place, *with_them: Question[Any], goes_up: bool = True, by: int = 0
    ) -> tuple[store.Way, list[Any]]:
        """Lock a place's counter, and in the same message, if what happens there goes up, those above it as far as it
        was needed the last time, changed ``by`` so much, if that is likely to come of it: which they are, and what
        these questions come to under the locks."""
        count = self.reached.get((place.pool_id, place.account_id), 1) if goes_up else 1
        way = [each for each, _, _ in place.to_owner[:count]]
        return store.lock_way(tx.connection, place.pool_id, way, *with_them, by=0 if tx.is_rehearsal else by)

    def note_reach(self, place: Place, writes: Sequence[Any]) -> None:
        """Note how far what was written reaches."""
        self.reached[place.pool_id, place.account_id] = max(1, len(writes))


MOST_PLACES = 200_000
_kept: dict[str, Directory] = {}
_lock = Lock()


def directory(tx: Transaction) -> Directory:
    """The directory kept by this process. Whoever uses it checks its number against the one in the database."""
    with _lock:
        found = _kept.get(tx.installation)
    if found is None:
        found = Directory(
            accounts_service.structure_number(tx),
            accounts_service.zone(tx),
            {each.code: each for each in pools_service.products(tx)},
        )
        with _lock:
            _kept[tx.installation] = found
    return found


def directory_now(tx: Transaction) -> Directory:
    """The directory of the structure as it is."""
    if directory(tx).number != accounts_service.structure_number(tx):
        forget(tx)
    return directory(tx)


def by_directory(tx: Transaction, judge: Callable[[Directory], Result]) -> Result:
    """What is judged by the directory; where that refuses, by the structure as it is, if that is another one. Whoever
    is not refused finds under the locks whether it is."""
    known = directory(tx)
    try:
        return judge(known)
    except Refused:
        now = directory_now(tx)
        if now is known:
            raise
    return judge(now)


def place_now(tx: Transaction, account: str, product: Product, scope: str | None) -> tuple[Place, Directory]:
    """Where an account's units of a product are counted today, and the directory that says so."""
    return by_directory(
        tx, lambda known: (known.place(tx, local_day(tx.now, known.zone), account, product, scope), known)
    )


def product_now(tx: Transaction, code: str) -> Product:
    """A product of which units are assigned, by its code."""
    return by_directory(tx, lambda known: known.product(code))


def forget(tx: Transaction) -> None:
    """Read the structure anew the next time."""
    with _lock:
        _kept.pop(tx.installation, None)
