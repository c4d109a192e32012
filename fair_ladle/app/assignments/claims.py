"""Claims: that a subject has a product, or one of its family, once; kept by a key of the database in the transaction of
the assignment, since two who read at the same moment both find nothing."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable, Sequence
from contextlib import nullcontext
from datetime import datetime

import sqlalchemy as sa

from fair_ladle.app.assignments.tables import claims as c
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.prepared import Prepared
from fair_ladle.app.plumbing.problems import conflict
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.usage.tables import assignments as a

AT_ONCE = 1000
Pair = tuple[Product, str]
"""A product and the subject that has it."""


def what(product: Product) -> str:
    """What is claimed by having a product: its family, where it has one, else the product itself."""
    return f"family {product.family}" if product.family else f"product {product.code}"


def _keys(pairs: Iterable[Pair]) -> dict[tuple[str, str], Product]:
    found = {(what(product), subject): product for product, subject in pairs if product.measure != "session"}
    return dict(sorted(found.items()))


def rehearse(tx: Transaction, products: Collection[Product], subjects: Collection[str] | None) -> None:
    """Where this is only tried out: go on with a copy of the claims of these subjects (all, if not said)."""
    these = c.c.what.in_({what(each) for each in products})
    tx.rehearse(c, these if subjects is None else sa.and_(these, c.c.subject.in_(subjects)))


def take(tx: Transaction, pairs: Sequence[Pair]) -> None:
    """Claim for subjects that are about to be assigned these products; refused where one has it by now.

    A claim whose assignment has ended by itself counts for nothing and is taken over.
    """
    keys = _keys(pairs)
    for start in range(0, len(keys), AT_ONCE):
        part = list(keys)[start : start + AT_ONCE]
        rows = [{"what": each, "subject": subject} for each, subject in part]
        try:
            # One that is refused undoes itself; of several some may be there.
            with tx.connection.begin_nested() if len(rows) > 1 else nullcontext():
                CLAIM.run(tx.connection, *rows)
            continue
        except sa.exc.IntegrityError:
            pass
        there = {(row.what, row.subject) for row in tx.connection.execute(sa.select(c).where(_in(part)))}
        standing = _held(tx, [(keys[each], each[1]) for each in there])
        if standing:
            product, subject = keys[min(standing)], min(standing)[1]
            said = f"one of {product.name}'s family" if product.family else product.name
            raise conflict(f"{subject} has {said} already.")
        _delete(tx, there)
        tx.connection.execute(sa.insert(c), rows)


class Taken(Exception):
    """The claim is there already: whether it stands says ``take``."""


def take_with_next(tx: Transaction, pairs: Sequence[Pair]) -> None:
    """As ``take`` does, but for one alone with whatever is asked next, which then raises Taken where it is there."""
    keys = list(_keys(pairs))
    if len(keys) == 1:
        [(name, subject)] = keys
        CLAIM.run_later(tx.connection, {"what": name, "subject": subject}, refused=Taken)
    else:
        take(tx, pairs)


CLAIM = Prepared(sa.insert(c).values(what=sa.bindparam("what"), subject=sa.bindparam("subject")))


def drop(tx: Transaction, pairs: Sequence[Pair], ended: Collection[int] = ()) -> None:
    """Give up the claims of subjects whose assignments end (``ended``: their numbers), unless another one stands."""
    keys = _keys(pairs)
    standing = _held(tx, [(product, subject) for (_, subject), product in keys.items()], ended)
    _delete(tx, [each for each in keys if each not in standing])


def _held(tx: Transaction, pairs: Sequence[Pair], ended: Collection[int] = ()) -> set[tuple[str, str]]:
    """Which of these are claimed rightly: by an assignment that has not ended, or begins only later."""
    if not pairs:
        return set()
    families = {product.family for product, _ in pairs if product.family}
    codes = {product.code for product, _ in pairs}
    concerned = {each.id: each for each in pools_service.products(tx) if each.code in codes or each.family in families}
    open_now = sa.select(a.c.id, a.c.product_id, a.c.subject).where(
        a.c.product_id.in_(concerned),
        a.c.subject.in_([subject for _, subject in pairs]),
        sa.or_(a.c.ends.is_(None), a.c.ends > tx.now),
    )
    gone = set(ended)
    return {
        (what(concerned[row.product_id]), row.subject) for row in tx.connection.execute(open_now) if row.id not in gone
    }


def _in(keys: Iterable[tuple[str, str]]) -> sa.ColumnElement[bool]:
    # Pairs in one IN are looked up by the key where there are two of them and by reading every row where there is one.
    by_what: dict[str, list[str]] = defaultdict(list)
    for name, subject in keys:
        by_what[name].append(subject)
    return sa.or_(sa.false(), *(sa.and_(c.c.what == name, c.c.subject.in_(mine)) for name, mine in by_what.items()))


def _delete(tx: Transaction, keys: Iterable[tuple[str, str]]) -> None:
    every = sorted(keys)
    for start in range(0, len(every), AT_ONCE):
        tx.connection.execute(sa.delete(c).where(_in(every[start : start + AT_ONCE])))


def _facts(tx: Transaction) -> set[tuple[str, str]]:
    """The claims that follow from the assignments."""
    products = {each.id: each for each in pools_service.products(tx) if each.measure != "session"}
    found = sa.select(a.c.product_id, a.c.subject).where(
        a.c.product_id.in_(products), sa.or_(a.c.ends.is_(None), a.c.ends > tx.now)
    )
    return {(what(products[row.product_id]), row.subject) for row in tx.connection.execute(found)}


def _kept(tx: Transaction) -> set[tuple[str, str]]:
    return {(row.what, row.subject) for row in tx.connection.execute(sa.select(c))}


def rebuild(tx: Transaction) -> int:
    """Make the claims what the assignments say, after many of them were loaded; how many differed."""
    facts, kept = _facts(tx), _kept(tx)
    _delete(tx, kept - facts)
    new = [{"what": each, "subject": subject} for each, subject in sorted(facts - kept)]
    for start in range(0, len(new), AT_ONCE):
        tx.connection.execute(sa.insert(c), new[start : start + AT_ONCE])
    return len(kept ^ facts)


def drop_ended(tx: Transaction, since: datetime | None) -> int:
    """Give up claims whose assignments ended by themselves, as an intake said, from an instant on (None = ever); a part
    of them, how many. Locks: these claims by key."""
    products = pools_service.products(tx)
    names: dict[str, list[Product]] = {}
    for each in products:
        names.setdefault(what(each), []).append(each)
    dropped = 0
    for name, mine in names.items():
        ids, other = [each.id for each in mine], a.alias("other")
        stands = sa.exists().where(
            other.c.product_id.in_(ids),
            other.c.subject == a.c.subject,
            sa.or_(other.c.ends.is_(None), other.c.ends > tx.now),
        )
        ended = [a.c.product_id.in_(ids), a.c.ends <= tx.now, *([] if since is None else [a.c.ends >= since])]
        claimed = sa.select(c.c.subject).join(a, a.c.subject == c.c.subject).where(c.c.what == name, *ended, ~stands)
        gone = list(tx.connection.scalars(claimed.distinct().limit(AT_ONCE)))
        if gone:
            # Somebody may have taken one over meanwhile: judged again with the claims locked.
            tx.connection.execute(sa.select(c.c.subject).where(_in([(name, each) for each in gone])).with_for_update())
            standing = _held(tx, [(mine[0], each) for each in gone])
            over = [each for each in gone if (name, each) not in standing]
            _delete(tx, [(name, each) for each in over])
            dropped += len(over)
    return dropped


def differences(tx: Transaction) -> list[tuple[str, str, str, str]]:
    """Every claim that no assignment stands behind, and every assignment without one: (what, where, found, evidence).

    One whose assignment ended by itself a moment ago is no difference: it counts for nothing.
    """
    facts, kept = _facts(tx), _kept(tx)
    return [
        *(("claim", f"{each} {subject}", "missing", "assigned") for each, subject in sorted(facts - kept)),
        *(
            ("claim", f"{each} {subject}", "claimed", "not assigned")
            for each, subject in sorted(_never_ended(tx, kept - facts))
        ),
    ]


def _never_ended(tx: Transaction, keys: set[tuple[str, str]]) -> set[tuple[str, str]]:
    """Those of these claims that no assignment that ended within the last two days explains."""
    if not keys:
        return keys
    products = {each.id: each for each in pools_service.products(tx)}
    lately = sa.select(a.c.product_id, a.c.subject).where(
        a.c.subject.in_({subject for _, subject in keys}), a.c.ends.is_not(None)
    )
    ended = {(what(products[row.product_id]), row.subject) for row in tx.connection.execute(lately)}
    return keys - ended
