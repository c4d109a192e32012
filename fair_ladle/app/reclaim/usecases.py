"""Taking back what is idle: who it would be, telling them first, doing it, and undoing it."""

from __future__ import annotations

import hashlib
import secrets
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import timedelta
from decimal import Decimal
from typing import Any, Literal

import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.assignments import many
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.assignments.eligibility import Wanted
from fair_ladle.app.entitlements import service as entitlements_service
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people.groups import Groups, in_branch
from fair_ladle.app.people.rows import PersonRecord
from fair_ladle.app.people.tables import people
from fair_ladle.app.plumbing import outbox
from fair_ladle.app.plumbing.actor import Actor, changes_rules
from fair_ladle.app.plumbing.addresses import greeting, in_a_mail
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import conflict, invalid, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Pool, Product
from fair_ladle.app.reclaim import store
from fair_ladle.app.reclaim.rows import PolicyRecord, RunRecord
from fair_ladle.app.sign_in import delegating
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.app.usage import service as usage
from fair_ladle.core.calendar import day_name

Criterion = Literal["unseen", "never seen", "not joined"]
Act = Literal["release", "suspend", "report"]
POLICIES = Actor("policy", "", None)
SAID = {"release": "released", "suspend": "suspended", "report": "reported"}


@dataclass(frozen=True)
class Policy:
    """Whom a policy takes back from, of what, after which notice, and what is done."""

    account: str
    name: str
    criterion: Criterion
    days: int
    products: tuple[str, ...]
    exempt: tuple[str, ...]
    notice_days: int
    act: Act
    daily: bool


@dataclass(frozen=True)
class Idle:
    """Who counts as idle, and of which products (none named = of all)."""

    criterion: Criterion
    days: int
    products: tuple[str, ...] = ()


@dataclass(frozen=True)
class Taken:
    """A unit reclaimed (or that would be): what it costs its owner a month, where whoever reads it may know; else 0
    and no currency."""

    product: str
    account: str
    cost: Decimal
    currency: str


@dataclass(frozen=True)
class Deed:
    """What is done to one person: told, released, suspended or reported, and why; or left alone, and why."""

    person_id: int
    username: str
    name: str
    account_name: str
    what: str
    units: list[Taken]
    why: str


@dataclass
class Run:
    """What a policy does, or would do, to whom; ``left`` are those it leaves alone with the reason."""

    deeds: list[Deed] = field(default_factory=list)
    left: list[Deed] = field(default_factory=list)

    def taken(self) -> list[Taken]:
        """Every unit that comes back."""
        return [taken for each in self.deeds if each.what in ("released", "suspended") for taken in each.units]


def policies(tx: Transaction, actor: Actor) -> list[tuple[Any, str, str]]:
    """The policies of the branch (rows), with account's code and name."""
    accounts = accounts_service.known(tx)
    top = accounts_service.top_row(accounts, actor)
    found = [(row, accounts.row_of_id[row.account_id]) for row in store.policies(tx.connection)]
    inside = [(row, place) for row, place in found if accounts.tree.is_inside(place, top)]
    return [(row, accounts.tree.codes[place], accounts.name(place)) for row, place in inside]


def put(tx: Transaction, actor: Actor, policy_id: int | None, wanted: Policy) -> int:
    """Make a policy or change one; its number."""
    changes_rules(actor)
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, wanted.account)
    there = None if policy_id is None else _mine(tx, actor, policy_id)
    if there is not None and accounts.row_of_id[there.account_id] != row:
        raise invalid("A policy stays with its account; make another one.", "account")
    name = wanted.name.strip()
    if not name:
        raise invalid("A policy has a name.", "name")
    if not 1 <= wanted.days <= 3650 or not 0 <= wanted.notice_days <= 365:
        raise invalid("From 1 to 3650 days, and a notice from 0 to 365 days before.", "days")
    known = {each.code for each in pools_service.products(tx) if each.measure == "seat"}
    for code in wanted.products:
        if code not in known:
            raise invalid(f"{code} is no product that people have seats of.", "products")
    groups = Groups.read(tx, accounts)
    _exempt(groups, accounts, wanted.exempt, accounts_service.top_row(accounts, actor))
    if any(
        each.name == name and each.account_id == int(accounts.ids[row]) and each.id != policy_id
        for each in store.policies(tx.connection)
    ):
        raise invalid(f"There is a policy {name} already.", "name")
    values = {
        "account_id": int(accounts.ids[row]),
        "name": name,
        "criterion": wanted.criterion,
        "days": wanted.days,
        "products": list(wanted.products),
        "exempt": list(wanted.exempt),
        "notice_days": wanted.notice_days,
        "act": wanted.act,
        "daily": wanted.daily,
    }
    terms = {
        key: value if not isinstance(value, list) else ", ".join(value) or "none"
        for key, value in values.items()
        if key not in ("account_id", "name")
    }
    log_service.write(
        tx,
        actor,
        None,
        [log_service.Entry("policy changed" if there else "policy made", name, int(accounts.ids[row]), None, terms)],
    )
    return store.put_policy(tx.connection, policy_id, values)


def _exempt(groups: Groups, accounts: Accounts, names: Sequence[str], top: int = 0) -> list[sa.ColumnElement[bool]]:
    """Conditions of the exempt groups, which are of the branch below ``top``; a group that is not there any more is
    refused, so that nobody loses its shelter unseen."""
    found = []
    for name in names:
        account, _, code = name.partition("/")
        group = next(
            (
                each
                for each in groups.every
                if each.code == code
                and accounts.tree.is_inside(groups.row(each), top)
                and accounts.tree.codes[groups.row(each)] == account
            ),
            None,
        )
        if group is None:
            raise invalid(
                f"There is no group {code}; take it out of those that are exempt, or make it again.", "exempt"
            )
        found.append(groups.reaches(group))
    return found


def _mine(tx: Transaction, actor: Actor, policy_id: int) -> Any:
    accounts, account_id = accounts_service.known(tx), store.account_of_policy(tx.connection, policy_id)
    seen = account_id is not None and accounts_service.sees(accounts, actor, account_id)
    row = store.lock_policy(tx.connection, policy_id) if seen else None
    if row is None:
        raise not_found("policy", str(policy_id))
    return row


def run(tx: Transaction, actor: Actor, policy_id: int) -> Run:
    """Run a policy now. Who is idle is told first, and loses the seat when the notice is over; a second run does
    nothing twice."""
    policy = _mine(tx, actor, policy_id)
    accounts, found = accounts_service.known(tx), Run()
    row = accounts.row_of_id[policy.account_id]
    shelters = _exempt(Groups.read(tx, accounts), accounts, policy.exempt)
    where = [in_branch(accounts, row), *_criterion(tx, policy)]
    locked = people_service.lock(tx, [each.id for each in store.candidates(tx.connection, where)])
    # Who was seen, moved or suspended meanwhile is idle no more: judged again under the locks.
    still = [*where, people.c.id.in_([each.id for each in locked])]
    idle = store.candidates(tx.connection, still) if locked else []
    sheltered = (
        set(
            tx.connection.scalars(
                sa.select(people.c.id).where(people.c.id.in_([each.id for each in idle]), sa.or_(*shelters))
            )
        )
        if shelters and idle
        else set()
    )
    if tx.is_rehearsal:
        _rehearse(tx, policy_id, idle)
    notices = store.notices(tx.connection, policy_id)
    store.forget_notices(tx.connection, policy_id, set(notices) - {each.id for each in idle})
    units, layered = _units(tx, accounts, policy, idle, row)
    names = {each.code: each.name for each in pools_service.products(tx)}
    new_notices: list[dict[str, Any]] = []
    mails: list[tuple[str, str, str]] = []
    taking: list[tuple[Any, list[Taken]]] = []
    for each in idle:
        mine, notice = units.get(each.username, []), notices.get(each.id)
        stays = _stays(tx, policy, each, sheltered, mine, layered, notice)
        if stays:
            found.left.append(_deed(accounts, each, "left", mine, stays))
        elif policy.notice_days and notice is None:
            new_notices.append(
                _notice_with_link(tx, accounts, policy, each, [names[one.product] for one in mine], mails)
            )
            found.deeds.append(
                _deed(accounts, each, "told", mine, f"{_why(policy, each)}; {policy.notice_days} days to answer")
            )
        else:
            taking.append((each, mine))
            found.deeds.append(_deed(accounts, each, SAID[policy.act], mine, _why(policy, each)))
    store.add_notices(tx.connection, new_notices)
    outbox.write_all(tx, mails)
    _take(tx, policy, taking)
    done = [each for each in found.deeds if each.what not in ("told", "reported")]
    store.forget_notices(tx.connection, policy_id, [each.person_id for each in done])
    if found.deeds:
        store.add_run(
            tx.connection,
            {"policy_id": policy_id, "at": tx.now, "by": actor.name},
            [
                {
                    "person_id": each.person_id,
                    "what": each.what,
                    "why": each.why,
                    "units": [[one.product, one.account, f"{one.cost:f}", one.currency] for one in each.units],
                }
                for each in found.deeds
            ],
        )
        log_service.write(
            tx,
            actor,
            None,
            [
                log_service.Entry(
                    "policy run",
                    policy.name,
                    policy.account_id,
                    None,
                    {
                        "told": sum(each.what == "told" for each in found.deeds),
                        "done": len(done),
                        "seats": len(found.taken()),
                        "kept": len(found.left),
                    },
                )
            ],
        )
    return found


def _rehearse(tx: Transaction, policy_id: int, idle: list[Any]) -> None:
    """Where a run is only tried out: go on with copies of all that it touches."""
    usernames = [each.username for each in idle]
    seats = [each for each in pools_service.products(tx) if each.measure == "seat"]
    held = {row.product_id for row in usage.open_assignments(tx, seats, usernames, tx.now)} if idle else set()
    assignments.rehearse(tx, [each for each in seats if each.id in held], usernames)
    people_service.rehearse(tx, [each.id for each in idle])
    sign_in_service.rehearse(tx)
    store.rehearse(tx, policy_id)


def _criterion(tx: Transaction, policy: PolicyRecord) -> list[sa.ColumnElement[bool]]:
    before = tx.now - timedelta(days=policy.days)
    if policy.criterion == "unseen":
        return [people.c.status == "active", people.c.last_seen_at < before]
    if policy.criterion == "never seen":
        return [
            people.c.status == "active",
            people.c.last_seen_at.is_(None),
            sa.or_(people.c.invited_at.is_(None), people.c.invited_at < before),
        ]
    return [people.c.status == "invited", people.c.invited_at < before]


def _units(
    tx: Transaction, accounts: Accounts, policy: PolicyRecord, idle: list[Any], top: int
) -> tuple[dict[str, list[Taken]], dict[tuple[int, str], str]]:
    """What each of them has of the policy's products, add-ons before what they need, with its cost for whoever runs the
    branch of ``top``; and which of it an entitlement gave, with the product's name."""
    products = [
        each
        for each in pools_service.products(tx)
        if each.measure == "seat" and (not policy.products or each.code in policy.products)
    ]
    products.sort(key=lambda each: (not each.requires, each.code))
    by_id, found = {each.id: each for each in products}, defaultdict(list)
    layered: dict[tuple[int, str], str] = {}
    owned, day = pools_service.pools(tx, products), accounts_service.today(tx)
    for product in products:
        layered |= {
            (person_id, product.code): product.name
            for person_id in entitlements_service.comes_by_a_layer(tx, product, [each.id for each in idle])
        }
    rows = usage.open_assignments(tx, products, [each.username for each in idle], tx.now) if idle else []
    for row in sorted(rows, key=lambda row: products.index(by_id[row.product_id])):
        place = accounts.row_of_id[row.account_id]
        cost, currency = _cost(accounts, owned, by_id[row.product_id], place, day, top)
        found[row.subject].append(Taken(by_id[row.product_id].code, accounts.tree.codes[place], cost, currency))
    return found, layered


def _cost(
    accounts: Accounts, owned: list[Pool], product: Product, place: int, day: Any, top: int
) -> tuple[Decimal, str]:
    """What one unit costs the pool's owner a month: the price of its newest lot that runs. What a pool above ``top``
    was bought for is not for whoever runs that branch: 0 and no currency."""
    mine = {pool.owner_id: pool for pool in owned if pool.product.id == product.id}
    pool = next(
        (mine[int(accounts.ids[row])] for row in accounts.tree.path_up(place) if int(accounts.ids[row]) in mine), None
    )
    if pool is None or top not in accounts.tree.path_up(accounts.row_of_id[pool.owner_id]):
        return Decimal(0), ""
    lots = [lot for lot in pool.lots if lot.covers(day)]
    return (max(lots, key=lambda lot: lot.first_day).unit_cost if lots else Decimal(0)), pool.currency


def _stays(
    tx: Transaction,
    policy: PolicyRecord,
    person: PersonRecord,
    sheltered: set[int],
    units: list[Taken],
    layered: dict[tuple[int, str], str],
    notice: Any,
) -> str:
    """Why somebody idle is left alone; empty where nothing speaks for them."""
    if person.protected:
        return "protected"
    if person.id in sheltered:
        return "in a group that is exempt"
    if not units:
        return "has nothing of it"
    through = [layered[key] for each in units if (key := (person.id, each.product)) in layered]
    if through and policy.act != "report":
        return f"has {through[0]} by an entitlement"
    if notice is not None and notice.needed_at is not None and tx.now - notice.needed_at < timedelta(days=policy.days):
        return f"said on {day_name(notice.needed_at)} that they still need it"
    if (
        policy.notice_days
        and notice is not None
        and notice.needed_at is None
        and tx.now - notice.told_at < timedelta(days=policy.notice_days)
    ):
        return f"notified on {day_name(notice.told_at)}; the notice period is not over"
    return ""


def _why(policy: PolicyRecord, person: PersonRecord) -> str:
    if policy.criterion == "unseen" and person.last_seen_at is not None:
        return f"last seen {day_name(person.last_seen_at)}"
    if policy.criterion == "never seen" or person.invited_at is None:
        return "never seen"
    return f"invited {day_name(person.invited_at)}, not joined"


def _deed(accounts: Accounts, person: PersonRecord, what: str, units: list[Taken], why: str) -> Deed:
    return Deed(
        person.id,
        person.username,
        person.display_name,
        accounts.name(accounts.row_of_id[person.account_id]),
        what,
        units,
        why,
    )


def _notice_with_link(
    tx: Transaction,
    accounts: Accounts,
    policy: PolicyRecord,
    person: PersonRecord,
    products: list[str],
    mails: list[tuple[str, str, str]],
) -> dict[str, Any]:
    """The notice with its link; whoever has no address is told by nobody, and has the same time."""
    token, now = secrets.token_urlsafe(32), tx.now
    if person.email:
        what = ", ".join(products)
        does = {
            "release": "is taken back",
            "suspend": "and your access are suspended",
            "report": "is reported as unused",
        }[policy.act]
        mails.append(
            (
                person.email,
                f"Do you still need {what}?",
                f"{greeting(person.display_name)}\n\nyou have {what} at "
                f"{in_a_mail(accounts.name(accounts.row_of_id[person.account_id]), 'your account')}, and it looks "
                f"unused ({_why(policy, person)}).\n"
                f"On {day_name(now + timedelta(days=policy.notice_days))} it {does}. If you still need it, say so "
                f"here:\n\n{tx.settings.address}/keep/{token}\n\nFair Ladle\n",
            )
        )
    return {
        "policy_id": policy.id,
        "person_id": person.id,
        "told_at": now,
        "token_hash": hashlib.sha256(token.encode()).hexdigest(),
        "needed_at": None,
    }


def _take(tx: Transaction, policy: PolicyRecord, taking: list[tuple[Any, list[Taken]]]) -> None:
    """Take back from everybody at once, and suspend them if that is what the policy does."""
    if policy.act == "report":
        return
    for part in many.in_parts(
        [Wanted(each.account, each.product, person.username) for person, units in taking for each in units]
    ):
        assignments.release(tx, POLICIES, part)
    if policy.act == "suspend":
        alike: dict[tuple[str, ...], list[int]] = defaultdict(list)
        for person, units in taking:
            alike[tuple(each.product for each in units)].append(person.id)
        for kept, ids in alike.items():
            people_service.change(tx, ids, {"status": "suspended", "kept": list(kept)})
        delegating.end_of(tx, POLICIES, [person.email for person, _ in taking if person.email])
        log_service.write(
            tx,
            POLICIES,
            None,
            [
                log_service.Entry("suspended", person.username, person.account_id, None, {"by": policy.name})
                for person, _ in taking
            ],
        )


@dataclass(frozen=True)
class RunRow:
    """A run that was made: its policy, when and by whom, what it did, and whether it was taken back."""

    row: RunRecord
    policy: str
    account_name: str
    deeds: list[Any]


def runs(tx: Transaction, actor: Actor) -> list[RunRow]:
    """The runs of the branch's policies, the newest first."""
    mine = {row.id: (row, name) for row, _, name in policies(tx, actor)}
    found = store.runs(tx.connection, list(mine))
    deeds: dict[int, list[Any]] = defaultdict(list)
    for deed in store.deeds(tx.connection, [row.id for row in found]):
        deeds[deed.run_id].append(deed)
    return [RunRow(row, mine[row.policy_id][0].name, mine[row.policy_id][1], deeds[row.id]) for row in found]


def undo(tx: Transaction, actor: Actor, run_id: int) -> tuple[list[str], list[tuple[str, str]]]:
    """Take a run back: seats are given again as far as there is room, suspended people are resumed.

    Who has everything again, and who has not, with the reason.
    """
    accounts, account_id = accounts_service.known(tx), store.account_of_run(tx.connection, run_id)
    seen = account_id is not None and accounts_service.sees(accounts, actor, account_id)
    row = store.lock_run(tx.connection, run_id) if seen else None
    if row is None:
        raise not_found("run", str(run_id))
    policy = _mine(tx, actor, row.policy_id)
    if row.undone_at is not None:
        raise conflict(f"This run was taken back already, by {row.undone_by}.")
    deeds = [each for each in store.deeds(tx.connection, [run_id]) if each.what in ("released", "suspended")]
    missing = {each.person_id: "was removed meanwhile" for each in deeds if each.status == "removed"}
    here = [each for each in deeds if each.status != "removed"]
    for status in ("active", "invited"):
        again = [
            each.person_id
            for each in here
            if each.what == each.status == "suspended"
            and people_service.status_again(each.last_seen_at, each.invited_at) == status
        ]
        people_service.change(tx, again, {"status": status, "kept": None})
    # What others need comes first: add-ons were taken before what they need.
    units = [
        (each.person_id, Wanted(account, product, each.username))
        for each in here
        for product, account, _, _ in reversed(each.units)
    ]
    for part in many.in_parts(units):
        _, refused = many.each_that_can(
            tx,
            part,
            lambda some: _assign(tx, actor, some),
            lambda each: each[1].username,
            lambda each: [(each[1].account, each[1].product)],
        )
        missing |= {person_id: why for (person_id, _), why in refused}
    back = [each.display_name for each in here if each.person_id not in missing]
    store.undone(tx.connection, run_id, tx.now, actor.name)
    log_service.write(
        tx,
        actor,
        None,
        [
            log_service.Entry(
                "policy run taken back",
                policy.name,
                policy.account_id,
                None,
                {"given again": len(back), "not": len(missing)},
            )
        ],
    )
    return back, [(each.display_name, missing[each.person_id]) for each in deeds if each.person_id in missing]


def _assign(tx: Transaction, actor: Actor, units: Sequence[tuple[int, Wanted]]) -> None:
    assignments.admit(tx, actor, [wanted for _, wanted in units])


def failed(tx: Transaction, actor: Actor) -> list[tuple[str, str]]:
    """Policies of the branch whose last run by itself could not be, with why."""
    return [(row.name, row.trouble) for row, _, _ in policies(tx, actor) if row.trouble]
