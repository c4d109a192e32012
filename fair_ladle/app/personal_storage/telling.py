"""Telling people that they are near or over their storage limit, and their admins together: each once, until they are
back within it.

Locks: what is kept of these people, by key; nobody else writes ``told``.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.tables import accounts as accounts_table
from fair_ladle.app.notices import service as notices_service
from fair_ladle.app.notices.service import Notice
from fair_ladle.app.people.tables import people
from fair_ladle.app.personal_storage.in_sql import limits_in_sql
from fair_ladle.app.plumbing import outbox
from fair_ladle.app.plumbing.addresses import greeting, in_a_mail
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage.tables import stored
from fair_ladle.app.usage.whose import whose
from fair_ladle.core.calendar import micros
from fair_ladle.core.quantities import BYTES_PER_GRAIN

AT_ONCE, NAMED = 500, 10
NOTHING, NEAR, OVER = range(3)


def limited(tx: Transaction) -> list[Product]:
    """The storage products."""
    return [each for each in pools_service.products(tx) if each.is_storage]


def tell(tx: Transaction, product: Product) -> int:
    """Tell some of those of whom it is not known yet; how many stand otherwise than they were told."""
    accounts = accounts_service.known(tx)
    limits = limits_in_sql(tx, accounts, product)
    k, p, a = stored, people, accounts_table
    grains = sa.func.floor((k.c.bytes + BYTES_PER_GRAIN // 2) / BYTES_PER_GRAIN)
    near = sa.and_(grains * 100 >= limits.grains * limits.tell_at, limits.grains > 0)
    level = sa.case((grains > limits.grains, OVER), (near, NEAR), else_=NOTHING)
    wanted = (
        sa.select(
            k.c.account_id,
            k.c.name,
            k.c.told,
            p.c.display_name,
            p.c.email,
            p.c.status,
            grains.label("grains"),
            limits.grains.label("limit"),
            level.label("level"),
        )
        .select_from(k.join(p, whose(tx).is_theirs).join(a, a.c.id == k.c.account_id))
        .where(k.c.product_id == product.id, k.c.kind == "person", level != k.c.told)
        .order_by(k.c.account_id, k.c.name)
        .limit(AT_ONCE)
    )
    rows = list(tx.connection.execute(wanted))
    _note(tx, product, rows)
    risen = [row for row in rows if row.level > row.told]
    for row in risen:
        if row.email and row.status == "active":
            outbox.write(tx, row.email, _subject(product, row), _text(product, row))
    notices_service.notify(tx, accounts, _digests(tx, product, risen))
    return len(rows)


def _note(tx: Transaction, product: Product, rows: Sequence[Any]) -> None:
    if not rows:
        return
    mine = [stored.c.product_id == product.id, stored.c.account_id == sa.bindparam("of"), stored.c.kind == "person"]
    change = sa.update(stored).where(*mine, stored.c.name == sa.bindparam("who")).values(told=sa.bindparam("level"))
    tx.connection.execute(change, [{"of": row.account_id, "who": row.name, "level": row.level} for row in rows])


def _subject(product: Product, row: Any) -> str:
    state = "over" if row.level == OVER else "near"
    return f"Your storage in {product.name} is {state} its limit"


def _text(product: Product, row: Any) -> str:
    stores = f"You store {_stores(product, row)}."
    then = "Delete what you no longer need, or ask your admin."
    return f"{greeting(row.display_name)}\n\n{stores} {then}\n\nFair Ladle\n"


def _stores(product: Product, row: Any) -> str:
    return f"{product.said(int(row.grains))} of {product.said(int(row.limit))}"


def _digests(tx: Transaction, product: Product, rows: list[Any]) -> list[Notice]:
    """One notice an account."""
    by_account: dict[int, list[Any]] = defaultdict(list)
    for row in rows:
        by_account[row.account_id].append(row)
    found = []
    for account_id, mine in sorted(by_account.items()):
        over, near = (sum(row.level == level for row in mine) for level in (OVER, NEAR))
        counts = [f"{n} {'person' if n == 1 else 'people'} {word}" for n, word in ((over, "over"), (near, "near")) if n]
        lines = [
            f"{in_a_mail(row.display_name, 'Somebody')}: {_stores(product, row)}"
            for row in sorted(mine, key=lambda row: -int(row.grains) / max(1, int(row.limit)))[:NAMED]
        ]
        rest = len(mine) - len(lines)
        found.append(
            Notice(
                f"storage limits {account_id} {product.id} {micros(tx.now)}",
                "storage limits",
                account_id,
                f"{' and '.join(counts)} {'their' if len(mine) > 1 else 'the'} storage limit in {product.name}",
                "\n".join([*lines, *([f"and {rest} more"] if rest else [])]),
                product.id,
            )
        )
    return found
