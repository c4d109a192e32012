"""Erasing somebody who was removed: what is known of them goes, what was counted and sealed stays."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import service as people_service
from fair_ladle.app.people_admin.listing import found_in_scope
from fair_ladle.app.plumbing import outbox
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import conflict
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage import service as usage


def erase(tx: Transaction, actor: Actor, username: str) -> str:
    """Take out the name, address, title, department and username of somebody who was removed, for good, from their row,
    what they held, groups, mails and the log; what they are called from now on. Their units stay counted where and when
    they were, and the log's chain holds.

    Locks the person, and judges under the lock whether they are removed; then the counters of the accounts in which
    something is stored under their name.
    """
    _, seen = found_in_scope(tx, actor, username)
    [found] = people_service.lock(tx, [seen.id])
    if found.status != "removed":
        raise conflict(f"{found.display_name} is {found.status}; remove them first.")
    by = f"erased-{found.id}"
    if found.username == by:
        raise conflict("They are erased already.")
    personal = [each.id for each in pools_service.products(tx) if each.is_personal]
    usage.rename(tx, personal, found.username, by)
    _rename_stored(tx, {found.account_id, *(found.was_in or ())}, found.username, by)
    people_service.erase(tx, found.id, found.username, by)
    names = {each for each in (found.username, found.email) if each}
    log_service.erase(tx, {found.account_id, *(found.was_in or ())}, names, by)
    if found.email:
        outbox.forget(tx, found.email)
    log_service.write(tx, actor, None, [log_service.Entry("erased", by, found.account_id)])
    return by


def _rename_stored(tx: Transaction, account_ids: Collection[int], username: str, by: str) -> None:
    """What they stored as their own, and in folders of the accounts they were in and of those above."""
    products = {each.id: each for each in pools_service.products(tx)}
    accounts = accounts_service.known(tx)
    ways = [accounts.tree.path_up(accounts.row_of_id[each]) for each in account_ids if each in accounts.row_of_id]
    around = {int(accounts.ids[row]) for way in ways for row in way}
    series = usage.series_naming(tx, list(products.values()), sorted(around), username)
    places: dict[Product, set[int]] = defaultdict(set)
    for product_id, account_id, _ in series:
        if account_id in accounts.row_of_id:
            places[products[product_id]].add(accounts.row_of_id[account_id])
    assignments.lock_ways(tx, accounts, places)
    usage.rename_series(tx, series, username, by)
