"""The pools of a branch as a calendar that other programs read, by an address that is a secret."""

from __future__ import annotations

import hashlib
import secrets

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations.stock import pools_below
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.purchases import store
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.connectors.calendars import Event, as_calendar


def make_calendar(tx: Transaction, actor: Actor) -> str:
    """A new secret address for the calendar of the branch; the old one stops working. Only its hash is kept."""
    token = secrets.token_urlsafe(32)
    store.replace(tx.connection, actor.sign_in_id or 0, _account_id(tx, actor), _hash(token), tx.now)
    return token


def drop_calendar(tx: Transaction, actor: Actor) -> None:
    """The address stops working."""
    store.replace(tx.connection, actor.sign_in_id or 0, _account_id(tx, actor), None, tx.now)


def has_calendar(tx: Transaction, actor: Actor) -> bool:
    """Whether there is an address."""
    return store.made(tx.connection, actor.sign_in_id or 0, _account_id(tx, actor)) is not None


def calendar(tx: Transaction, token: str) -> bytes:
    """Renewals and endings of the branch's lots (RFC 5545), for whoever knows the address and while its maker runs
    the branch."""
    made = store.by_token(tx.connection, _hash(token))
    actor = None if made is None else sign_in_service.actor_for(tx, made.sign_in_id, made.code)
    if actor is None:
        raise not_found("calendar", "at this address")
    events, known = [], accounts_service.known(tx)
    for row, pool in pools_below(tx, pools_service.products(tx), accounts_service.top_row(known, actor)):
        owner, name = known.tree.codes[row], known.name(row)
        for lot in pool.lots:
            quantity = pool.product.said(lot.quantity)
            if lot.last_day is not None:
                events.append(
                    Event(
                        f"end-{owner}-{pool.product.code}-{lot.reference}-{lot.first_day}",
                        lot.last_day,
                        f"{pool.product.name}: {quantity} end ({name})",
                        f"Lot {lot.reference}, {lot.unit_cost.normalize():f} {pool.currency} each "
                        "a month. Renew it before it ends.",
                    )
                )
            events.append(
                Event(
                    f"begin-{owner}-{pool.product.code}-{lot.reference}-{lot.first_day}",
                    lot.first_day,
                    f"{pool.product.name}: {quantity} begin ({name})",
                    f"Lot {lot.reference}.",
                )
            )
    return as_calendar("Fair Ladle: renewals and endings", events, tx.now)


def _hash(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def _account_id(tx: Transaction, actor: Actor) -> int:
    return accounts_service.ids_by_code(tx)[actor.scope or accounts_service.operator(tx).code]
