"""What accounts and groups set for everybody of theirs: there may be many, and whoever writes something of their own is
judged by them; and of what somebody has a limit of their own. Kept in this process while none of it changes."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

from fair_ladle.app.personal_storage import store
from fair_ladle.app.personal_storage.rows import LimitRecord
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.cache import Cache
from fair_ladle.app.plumbing.database import Transaction


@dataclass(frozen=True)
class SetByLayers:
    """All of them, and those of each account and of each group (numbers) by product."""

    rows: Sequence[LimitRecord]
    by_account: Mapping[int, Mapping[int, LimitRecord]]
    by_group: Mapping[int, Mapping[int, LimitRecord]]
    of_groups: Collection[int]
    """The products of which some group sets one."""
    of_people: Collection[int]
    """Those of which somebody has one of their own."""

    def may_reach(self, product_id: int, account_ids: Collection[int]) -> bool:
        """Whether a limit of a product may reach who is below all of these accounts."""
        of_accounts = any(product_id in self.by_account.get(each, ()) for each in account_ids)
        return of_accounts or product_id in self.of_groups


def set_by_layers(tx: Transaction) -> SetByLayers:
    """What accounts and groups set."""

    def read() -> SetByLayers:
        by_account: dict[int, dict[int, LimitRecord]] = defaultdict(dict)
        by_group: dict[int, dict[int, LimitRecord]] = defaultdict(dict)
        rows = store.all_but_direct(tx.connection)
        for row in rows:
            of = by_group[row.group_id] if row.group_id else by_account[row.account_id or 0]
            of[row.product_id] = row
        return SetByLayers(
            rows,
            dict(by_account),
            dict(by_group),
            frozenset(product for by in by_group.values() for product in by),
            frozenset(store.products_with_direct(tx.connection)),
        )

    if tx.is_rehearsal:
        return read()
    return _kept.get((tx.installation, generations.numbers(tx, "limits")), read)


_kept: Cache[SetByLayers] = Cache(4, megabytes=32)
