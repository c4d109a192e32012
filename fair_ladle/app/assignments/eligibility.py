"""Who may be assigned what, limits aside: rules as small named functions over facts that are read under locks."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from fair_ladle.app.people import service as people
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import Refused, conflict, invalid
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage import service as usage

RESERVED = "aside:"
"""Before a username: a seat that is counted and kept for them, and not theirs yet."""


@dataclass(frozen=True)
class Wanted:
    """One unit to assign or release: of which account, which product, for whom."""

    account: str
    product: str
    subject: str

    @property
    def username(self) -> str:
        """Whom it is for, reserved or not."""
        return self.subject.removeprefix(RESERVED)

    @property
    def reserves(self) -> bool:
        """Whether it is a reservation."""
        return self.subject.startswith(RESERVED)


@dataclass(frozen=True)
class Finding:
    """What is against one unit, in words that follow the subject's name, and the kind of refusal it is."""

    wanted: Wanted
    why: str
    refuse: Callable[[str], Refused] = conflict


@dataclass(frozen=True)
class Facts:
    """What the rules judge by: products and people, and what each subject has, or gets at the same time."""

    products: Mapping[str, Product]
    people: Mapping[str, Any]
    account_ids: Mapping[str, int]
    held: Mapping[str, set[str]]
    together: Mapping[str, set[str]]


def find(
    tx: Transaction,
    wanted: Sequence[Wanted],
    products: Mapping[str, Product],
    account_ids: Mapping[str, int],
    leaving: Collection[str] = (),
) -> list[Finding]:
    """Everything against these units, at most one finding a unit. The people concerned are locked by the caller.

    ``account_ids`` has the number of each account named; what subjects have of the products in ``leaving`` does not
    count: it goes at the same instant.
    """
    facts = _read(tx, wanted, products, account_ids, leaving)
    found = []
    for each in wanted:
        finding = next((one for rule in RULES for one in rule(facts, each)), None)
        if finding is not None:
            found.append(finding)
    return found


def _read(
    tx: Transaction,
    wanted: Sequence[Wanted],
    products: Mapping[str, Product],
    account_ids: Mapping[str, int],
    leaving: Collection[str],
) -> Facts:
    named = [products[each.product] for each in wanted]
    codes, families = {each.code for each in named}, {each.family for each in named if each.family}
    bases = {base for each in named for base in each.requires}
    concerned = [
        each for each in products.values() if each.code in codes or each.family in families or each.code in bases
    ]
    code_of = {each.id: each.code for each in concerned}
    held: dict[str, set[str]] = defaultdict(set)
    for row in usage.open_assignments(tx, concerned, [each.subject for each in wanted], tx.now):
        if code_of[row.product_id] not in leaving:
            held[row.subject].add(code_of[row.product_id])
    together: dict[str, set[str]] = defaultdict(set)
    for each in wanted:
        together[each.subject].add(each.product)
    of_people = [each.username for each in wanted if products[each.product].is_personal]
    known = people.by_username(tx, of_people) if of_people else {}
    return Facts(products, known, account_ids, held, together)


def is_of_the_account(facts: Facts, each: Wanted) -> Iterator[Finding]:
    """Seats and sessions are for people of the account."""
    if facts.products[each.product].is_personal:
        person = facts.people.get(each.username)
        if person is None or person.account_id != facts.account_ids[each.account]:
            yield Finding(each, f"is not a person of {each.account}.", invalid)


def is_there(facts: Facts, each: Wanted) -> Iterator[Finding]:
    """Who is suspended or removed gets nothing."""
    if facts.products[each.product].is_personal:
        status = facts.people[each.username].status
        if status not in ("active", "invited"):
            yield Finding(each, f"is {status}; {'resume' if status == 'suspended' else 'restore'} them first.")


def has_it_not(facts: Facts, each: Wanted) -> Iterator[Finding]:
    """One unit a product, sessions aside."""
    product = facts.products[each.product]
    if each.product in facts.held[each.subject] and product.measure != "session":
        yield Finding(each, f"has {product.name} already.")


def has_a_base(facts: Facts, each: Wanted) -> Iterator[Finding]:
    """An add-on needs one of its bases; a reservation is asked for it only when it is assigned."""
    product = facts.products[each.product]
    mine = facts.held[each.subject] | facts.together[each.subject]
    if product.requires and not each.reserves and not mine & set(product.requires):
        names = " or ".join(facts.products[base].name for base in product.requires)
        yield Finding(each, f"has no {names}, which {product.name} needs.")


def is_alone_in_its_family(facts: Facts, each: Wanted) -> Iterator[Finding]:
    """Of a family one at a time."""
    product = facts.products[each.product]
    mine = facts.held[each.subject] | facts.together[each.subject]
    rivals = sorted(
        code
        for code in mine
        if code != each.product and product.family and facts.products[code].family == product.family
    )
    if rivals and not each.reserves:
        yield Finding(each, f"has {facts.products[rivals[0]].name}, and of this family only one at a time.")


RULES = (is_of_the_account, is_there, has_it_not, has_a_base, is_alone_in_its_family)


def conflicts(products: Mapping[str, Product], held: Collection[str], asked: Sequence[str]) -> list[tuple[str, str]]:
    """Which of these products, given one after the other to somebody who holds some, they could not have, and why:
    by their families and bases alone, worded without a name."""
    found, has = [], set(held)
    for code in sorted(asked, key=lambda each: bool(products[each].requires)):
        each = Wanted("", code, "")
        facts = Facts(products, {}, {}, {"": has}, {"": {code}})
        against = next(
            (finding for rule in (has_a_base, is_alone_in_its_family) for finding in rule(facts, each)), None
        )
        if against is None:
            has.add(code)
        else:
            found.append((code, against.why))
    return found


def add_ons_left(
    tx: Transaction, products: Mapping[str, Product], subjects: Sequence[str], leaving: Mapping[str, set[str]]
) -> list[tuple[str, Product, Product]]:
    """(subject, add-on, base) where a subject would keep an add-on and none of its bases; ``leaving`` has what goes of
    each subject."""
    add_ons = [each for each in products.values() if each.requires]
    going = {code for codes in leaving.values() for code in codes}
    concerned = [each for each in add_ons if going & set(each.requires)]
    if not concerned:
        return []
    every = list({each.id: each for each in pools_service.products(tx)}.values())
    code_of = {each.id: each.code for each in every}
    held: dict[str, set[str]] = defaultdict(set)
    bases = {base for each in concerned for base in each.requires}
    asked = [each for each in every if each.code in bases or each in concerned]
    for row in usage.open_assignments(tx, asked, subjects, tx.now):
        held[row.subject].add(code_of[row.product_id])
    found = []
    for subject, codes in held.items():
        kept = codes - leaving.get(subject, set())
        for add_on in concerned:
            gone = [base for base in add_on.requires if base in leaving.get(subject, set())]
            if add_on.code in kept and gone and not kept & set(add_on.requires):
                found.append((subject, add_on, products[gone[0]]))
    return found
