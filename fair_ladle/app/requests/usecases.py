"""Asking the parent for more or offering some back; granting all or part, refusing, passing it up. Granting is a
draft applied."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from typing import Any, Literal

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.allocations import service as allocations
from fair_ladle.app.allocations.positions import Positions, settle_snapshot
from fair_ladle.app.allocations.snapshots import present_snapshot
from fair_ladle.app.drafts.change_types import AllocationChange, Terms, Until
from fair_ladle.app.drafts.preview import Preview, apply_changes
from fair_ladle.app.drafts.preview import preview as preview_changes
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.log import service as log_service
from fair_ladle.app.notices import service as notices_service
from fair_ladle.app.notices.service import Notice
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import conflict, invalid, not_allowed, not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.requests import store
from fair_ladle.app.requests.rows import RequestRecord
from fair_ladle.app.requests.tables import requests as requests_table
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.core.calendar import day_name, micros
from fair_ladle.core.quantities import MOST_GRAINS

As = Literal["cap", "reserve"]


@dataclass(frozen=True)
class Request:
    """A request with its steps and how it looks to whoever asks: theirs to answer, or theirs to withdraw."""

    row: RequestRecord
    account: str
    name: str
    parent: str
    product: Product
    steps: list[Any]
    to_answer: bool
    to_withdraw: bool


def ask(
    tx: Transaction,
    actor: Actor,
    account: str,
    product: str,
    amount: int,
    as_what: As,
    reason: str,
    wish_day: date | None,
    last_day: date | None = None,
    because_of: int | None = None,
) -> Request:
    """Ask the parent of the account at the top of one's branch for more, for good or until a last day; an amount below
    0 offers some back."""
    found, row, wanted = _position(tx, actor, account, product)
    accounts = found.snapshot.accounts
    if row != accounts_service.top_row(accounts, actor):
        raise invalid(f"You can change the allocations of {accounts.name(row)} yourself.", "account")
    if amount == 0 or abs(amount) > MOST_GRAINS:
        raise invalid(f"Ask for more than 0 and at most {wanted.said(MOST_GRAINS)}.", "amount")
    if not reason.strip():
        raise invalid("Give a reason for whoever decides.", "reason")
    if wish_day is not None and wish_day < found.snapshot.day:
        raise invalid(f"The day you wish for is over; today is {day_name(found.snapshot.day)}.", "wish_day")
    if last_day is not None and (amount < 0 or last_day < max(found.snapshot.day, wish_day or date.min)):
        raise invalid("More is asked for until a last day, which is not before the first.", "last_day")
    account_id = int(accounts.ids[row])
    _terms(tx, found, row, wanted, as_what, amount)
    now = tx.now
    request_id = store.add(
        tx.connection,
        {
            "account_id": account_id,
            "product_id": wanted.id,
            "amount": amount,
            "as_what": as_what,
            "reason": reason.strip(),
            "wish_day": wish_day,
            "last_day": last_day,
            "state": "waiting",
            "asked_by_id": actor.sign_in_id,
            "asked_by": actor.name,
            "asked_at": now,
        },
    )
    if because_of is not None:
        store.update(tx.connection, because_of, {"passed_up_id": request_id})
    what = f"{wanted.said(abs(amount))} of {wanted.name}"
    by_when = f", by {day_name(wish_day)}" if wish_day else ""
    by_when += f", until {day_name(last_day)}" if last_day else ""
    subject = (
        f"{accounts.name(row)} asks for {what}{by_when}"
        if amount > 0
        else f"{accounts.name(row)} offers {what} back{by_when}"
    )
    _step(tx, actor, accounts, request_id, account_id, wanted, "asked", reason.strip(), subject)
    return _one(tx, actor, request_id)


def preview(tx: Transaction, actor: Actor, request_id: int, part: int | None = None) -> Preview:
    """What granting a request, or part of it, would do."""
    row, found, place, product = _to_answer(tx, actor, request_id)
    return preview_changes(tx, actor, [_change(tx, found, place, product, row, _part(row, part, product))])


def grant(tx: Transaction, actor: Actor, request_id: int, part: int | None = None, text: str = "") -> Request:
    """Give what was asked for, or part of it: applied at once like a draft, and refused like one where it breaks a
    limit."""
    row, found, place, product = _to_answer(tx, actor, request_id, lock=True)
    amount = _part(row, part, product)
    accounts = found.snapshot.accounts
    apply_changes(tx, actor, [_change(tx, found, place, product, row, amount)], f"request {request_id}")
    store.update(tx.connection, request_id, {"state": "granted", "granted": amount})
    whole = "" if amount == row.amount else f" of the {product.said(abs(row.amount))}"
    verb = "was granted" if row.amount > 0 else "gave back"
    subject = f"{accounts.name(place)} {verb} {product.said(abs(amount))}{whole} of {product.name}"
    _step(
        tx,
        actor,
        accounts,
        request_id,
        row.account_id,
        product,
        "granted" if not whole else "granted in part",
        text.strip(),
        subject,
    )
    below = store.below(tx.connection, request_id)
    if below is not None and below.state == "waiting":
        name = accounts.name(accounts.row_of_id[below.account_id])
        _step(
            tx,
            actor,
            accounts,
            below.id,
            below.account_id,
            product,
            "granted above",
            "",
            f"There is room now for what {name} asked for of {product.name}",
        )
    return _one(tx, actor, request_id)


def refuse(tx: Transaction, actor: Actor, request_id: int, reason: str) -> Request:
    """Say no, with a reason."""
    row, found, place, product = _to_answer(tx, actor, request_id, lock=True)
    if not reason.strip():
        raise invalid("Give a reason for the person who asked.", "reason")
    store.update(tx.connection, request_id, {"state": "refused"})
    accounts = found.snapshot.accounts
    subject = f"{accounts.name(place)} was refused {product.said(abs(row.amount))} of {product.name}"
    _step(tx, actor, accounts, request_id, row.account_id, product, "refused", reason.strip(), subject)
    return _one(tx, actor, request_id)


def pass_up(tx: Transaction, actor: Actor, request_id: int, reason: str) -> Request:
    """Ask one's own parent for what was asked for; the request goes on waiting until one can grant it."""
    row, found, place, product = _to_answer(tx, actor, request_id, lock=True)
    accounts = found.snapshot.accounts
    top = accounts_service.top_row(accounts, actor)
    if top == 0 or int(found.snapshot.owner[top, 0]) == top:
        raise conflict(f"{accounts.name(top)} buys {product.name} itself; buy more, or shift it from others.")
    if row.passed_up_id is not None:
        above = store.one(tx.connection, row.passed_up_id)
        if above is not None and above.state == "waiting":
            raise conflict("This was passed up already and waits there.")
    text = reason.strip() or row.reason
    ask(
        tx,
        actor,
        accounts.tree.codes[top],
        product.code,
        row.amount,
        row.as_what,
        text,
        row.wish_day,
        row.last_day,
        because_of=request_id,
    )
    subject = f"What {accounts.name(place)} asked for of {product.name} was passed up"
    _step(tx, actor, accounts, request_id, row.account_id, product, "passed up", "", subject, parent_too=False)
    return _one(tx, actor, request_id)


def withdraw(tx: Transaction, actor: Actor, request_id: int) -> Request:
    """Take one's own request back."""
    accounts = accounts_service.known(tx)
    row = store.one(tx.connection, request_id, lock=True)
    if row is None or not accounts_service.sees(accounts, actor, row.account_id):
        raise not_found("request", str(request_id))
    place = accounts_service.row_in_scope(accounts, actor, accounts.tree.codes[accounts.row_of_id[row.account_id]])
    if place != accounts_service.top_row(accounts, actor):
        raise not_allowed("Only who asked takes a request back; answer it instead.")
    if row.state != "waiting":
        raise conflict(f"This request is {row.state} already.")
    product = pools_service.product(tx, row.product)
    store.update(tx.connection, request_id, {"state": "withdrawn"})
    _step(
        tx,
        actor,
        accounts,
        request_id,
        row.account_id,
        product,
        "withdrawn",
        "",
        f"{accounts.name(place)} took back what it asked for of {product.name}",
    )
    return _one(tx, actor, request_id)


def requests(
    tx: Transaction, actor: Actor, account: str | None = None, waiting_only: bool = False, limit: int = 200
) -> list[Request]:
    """Requests of the actor's branch, or of one account in it; those that wait first."""
    accounts = accounts_service.known(tx)
    of = requests_table.c.account_id
    if account is None:
        whose = accounts_service.in_branch(accounts, accounts_service.top_row(accounts, actor), of)
    else:
        whose = of == int(accounts.ids[accounts_service.row_in_scope(accounts, actor, account)])
    found = store.of_accounts(tx.connection, whose, waiting_only, limit)
    return _shown(tx, actor, accounts, found)


def to_answer_first(tx: Transaction, actor: Actor) -> list[Request]:
    """The waiting requests that are the actor's to answer first: nobody runs an account between who asked and the
    actor's own."""
    found = [each for each in requests(tx, actor, waiting_only=True) if each.to_answer]
    accounts = accounts_service.known(tx)
    top = accounts_service.top_row(accounts, actor)
    between = {each.account: _between(accounts, each.account, top) for each in found}
    running = sign_in_service.admins_of(
        tx, [int(accounts.ids[row]) for row in {row for rows in between.values() for row in rows}]
    )
    return [each for each in found if not any(running.get(int(accounts.ids[row])) for row in between[each.account])]


def _between(accounts: Accounts, account: str, top: int) -> list[int]:
    above = accounts.tree.path_up(accounts.tree.row(account))[1:]
    return above[: above.index(top)]


def _shown(tx: Transaction, actor: Actor, accounts: Accounts, rows: list[RequestRecord]) -> list[Request]:
    products = {each.id: each for each in pools_service.products(tx)}
    steps: dict[int, list[Any]] = {}
    for step in store.steps(tx.connection, [row.id for row in rows]):
        steps.setdefault(step.request_id, []).append(step)
    top, shown = accounts_service.top_row(accounts, actor), []
    for row in rows:
        place = accounts.row_of_id[row.account_id]
        parent = int(accounts.tree.parent[place])
        waiting = row.state == "waiting"
        shown.append(
            Request(
                row,
                accounts.tree.codes[place],
                accounts.name(place),
                accounts.name(parent) if place != top and parent >= 0 else "",
                products[row.product_id],
                steps.get(row.id, []),
                waiting and place != top,
                waiting and place == top,
            )
        )
    return shown


def _one(tx: Transaction, actor: Actor, request_id: int) -> Request:
    accounts = accounts_service.known(tx)
    row = store.one(tx.connection, request_id)
    assert row is not None
    return _shown(tx, actor, accounts, [row])[0]


def _position(tx: Transaction, actor: Actor, account: str, product: str) -> tuple[Positions, int, Product]:
    wanted = pools_service.product(tx, product)
    found = settle_snapshot(present_snapshot(tx, [wanted]))
    row = accounts_service.row_in_scope(found.snapshot.accounts, actor, account)
    owner = int(found.snapshot.owner[row, 0])
    if owner < 0:
        raise not_found("pool of the product here", product)
    if owner == row:
        raise conflict(
            f"{found.snapshot.accounts.name(row)} owns its pool of {wanted.name}; there is no parent to ask."
        )
    return found, row, wanted


def _to_answer(
    tx: Transaction, actor: Actor, request_id: int, lock: bool = False
) -> tuple[Any, Positions, int, Product]:
    accounts = accounts_service.known(tx)
    row = store.one(tx.connection, request_id, lock)
    if row is None or not accounts_service.sees(accounts, actor, row.account_id):
        raise not_found("request", str(request_id))
    product = pools_service.product(tx, row.product)
    found = settle_snapshot(present_snapshot(tx, [product]))
    accounts = found.snapshot.accounts
    place = accounts_service.row_in_scope(accounts, actor, accounts.tree.codes[accounts.row_of_id[row.account_id]])
    if place == accounts_service.top_row(accounts, actor):
        raise not_allowed(f"What {accounts.name(place)} asked for is its parent's to answer.")
    if row.state != "waiting":
        raise conflict(f"This request is {row.state} already.")
    return row, found, place, product


def _part(row: RequestRecord, part: int | None, product: Product) -> int:
    if part is None:
        return int(row.amount)
    low, high = (1, row.amount) if row.amount > 0 else (row.amount, -1)
    if not low <= part <= high:
        raise invalid(
            f"All or part of the {product.said(abs(row.amount))} asked for; not {product.said(part)}.", "part"
        )
    return part


def _change(
    tx: Transaction, found: Positions, place: int, product: Product, request: RequestRecord, amount: int
) -> AllocationChange:
    account_id = int(found.snapshot.accounts.ids[place])
    version = allocations.in_force(tx, [product.id], [account_id], found.snapshot.day).get((account_id, product.id))
    return AllocationChange(
        account=found.snapshot.accounts.tree.codes[place],
        product=product.code,
        terms=_terms(tx, found, place, product, request.as_what, amount),
        seen=version.id if version else None,
        was=terms_of(version),
        until=None if request.last_day is None else Until(last_day=request.last_day),
        was_until=None if request.last_day is None else Until(last_day=version.last_day if version else None),
    )


def _terms(tx: Transaction, found: Positions, place: int, product: Product, as_what: As, amount: int) -> Terms:
    account_id = int(found.snapshot.accounts.ids[place])
    was = (
        terms_of(allocations.in_force(tx, [product.id], [account_id], found.snapshot.day).get((account_id, product.id)))
        or Terms()
    )
    cap = None if was.cap is None else was.cap + amount
    reserve = was.reserve + amount if as_what == "reserve" else was.reserve
    if as_what == "cap" and was.cap is None:
        raise invalid(
            f"{found.snapshot.accounts.name(place)} has no cap on {product.name}; ask for a reserve instead.", "as_what"
        )
    if reserve < 0 or (cap is not None and cap < 0):
        raise invalid(f"{found.snapshot.accounts.name(place)} has less than that to give back.", "amount")
    if cap is not None and reserve > cap:
        reserve = cap
    return was.model_copy(update={"cap": cap, "reserve": reserve})


def _step(
    tx: Transaction,
    actor: Actor,
    accounts: Accounts,
    request_id: int,
    account_id: int,
    product: Product,
    what: str,
    text: str,
    subject: str,
    parent_too: bool = True,
) -> None:
    now = tx.now
    store.add_step(tx.connection, {"request_id": request_id, "at": now, "by": actor.name, "what": what, "text": text})
    notice = Notice(
        f"request {request_id} {what} {micros(now)}",
        "request",
        account_id,
        subject,
        text or f"By {actor.name}.",
        product.id,
        parent_too,
    )
    notices_service.notify(tx, accounts, [notice], but_not=actor.email)
    log_service.write(
        tx, actor, None, [log_service.Entry(f"request {what}", product.code, account_id, None, {"request": subject})]
    )
