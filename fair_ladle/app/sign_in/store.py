"""Queries over sign-ins, sessions, links and failed tries."""

from __future__ import annotations

from collections.abc import Collection
from datetime import datetime
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.accounts.tables import accounts
from fair_ladle.app.plumbing import generations
from fair_ladle.app.plumbing.database import Transaction, fetch, fetch_first, insert_row
from fair_ladle.app.plumbing.prepared import Prepared
from fair_ladle.app.plumbing.tables import demo_clock
from fair_ladle.app.sign_in.delegation_store import ACCOUNT, CALLED, LACKS_SECOND_FACTOR, RUN
from fair_ladle.app.sign_in.rows import LinkRecord, SessionDelegation, SessionRecord, SignInRecord
from fair_ladle.app.sign_in.tables import (
    delegations,
    failed_tries,
    sessions,
    sign_in_links,
    sign_ins,
)


def by_email(connection: sa.Connection, email: str) -> SignInRecord | None:
    """A sign-in by its address."""
    return fetch_first(connection, sa.select(sign_ins).where(sign_ins.c.email == email), SignInRecord)


def by_id(connection: sa.Connection, sign_in_id: int) -> SignInRecord | None:
    """A sign-in by its number."""
    return fetch_first(connection, sa.select(sign_ins).where(sign_ins.c.id == sign_in_id), SignInRecord)


def add(connection: sa.Connection, email: str, name: str, password_hash: str) -> int:
    """A new sign-in's id."""
    return insert_row(connection, sign_ins, {"email": email, "name": name, "password_hash": password_hash})


def set_password(connection: sa.Connection, sign_in_id: int, password_hash: str) -> None:
    """Another password; every session of it ends."""
    rehash(connection, sign_in_id, password_hash)
    end_sessions(connection, [sign_in_id])


def rehash(connection: sa.Connection, sign_in_id: int, password_hash: str) -> None:
    """The same password, hashed anew."""
    connection.execute(sa.update(sign_ins).where(sign_ins.c.id == sign_in_id).values(password_hash=password_hash))


def rehearse(tx: Transaction) -> None:
    """Where ending delegations is only tried out: go on with copies."""
    tx.rehearse(delegations)
    tx.rehearse(sessions)


def end_sessions(connection: sa.Connection, sign_in_ids: Collection[int]) -> None:
    """Every session of these sign-ins ends."""
    if sign_in_ids:
        connection.execute(sa.delete(sessions).where(sessions.c.sign_in_id.in_(sign_in_ids)))


def begin_session(connection: sa.Connection, row: dict[str, Any]) -> None:
    """Keep a session."""
    connection.execute(sa.insert(sessions), [row])


def session(connection: sa.Connection, token_hash: str) -> list[SessionDelegation]:
    """A session with its sign-in, a row for each delegation that is not ended, with its account; and all
    ``generations`` of that instant."""
    return _SESSION.run(connection, {"token_hash": token_hash})


def _session() -> Prepared:
    d = delegations
    wanted = sa.select(
        sessions, sign_ins.c.email, CALLED.label("person"), *RUN, *ACCOUNT, LACKS_SECOND_FACTOR, generations.ALL
    )
    joined = wanted.join(sign_ins, sign_ins.c.id == sessions.c.sign_in_id).join(d, d.c.sign_in_id == sign_ins.c.id)
    mine = sa.and_(sessions.c.token_hash == sa.bindparam("token_hash"), d.c.ended_at.is_(None))
    return Prepared(joined.join(accounts, accounts.c.id == d.c.account_id).where(mine).order_by(d.c.id))


_SESSION = _session()


def touch_session(connection: sa.Connection, token_hash: str, at: datetime) -> None:
    """Note that a session was used."""
    connection.execute(sa.update(sessions).where(sessions.c.token_hash == token_hash).values(last_used=at))


def end_session(connection: sa.Connection, token_hash: str) -> None:
    """Forget a session."""
    connection.execute(sa.delete(sessions).where(sessions.c.token_hash == token_hash))


def end_old_sessions(connection: sa.Connection, used_before: datetime, began_before: datetime) -> None:
    """Forget sessions nobody can use any more."""
    over = sa.select(sessions.c.token_hash).where(
        sa.or_(sessions.c.last_used < used_before, sessions.c.began < began_before)
    )
    # Looked for without a lock and ended by their keys: nobody who is at work waits for who comes in.
    connection.execute(sa.delete(sessions).where(sessions.c.token_hash.in_(connection.scalars(over.limit(1000)).all())))


def count_try(connection: sa.Connection, email: str, origin: str, now: datetime, since: datetime) -> int:
    """Count a try under the lock of its row, before it is verified; how many there were since an instant, with it."""
    f = failed_tries
    new = mysql.insert(f).values(email=email[:254], origin=origin[:64], tries=1, last_at=now)
    counted = sa.case((f.c.last_at < since, 1), else_=f.c.tries + 1)
    connection.execute(new.on_duplicate_key_update([("tries", counted), ("last_at", now)]))
    mine = sa.and_(f.c.email == email[:254], f.c.origin == origin[:64])
    return int(connection.scalar(sa.select(f.c.tries).where(mine)) or 0)


def clear_tries(connection: sa.Connection, email: str, origin: str, before: datetime) -> None:
    """Forget the tries of an address and origin, and a part of all that are old."""
    f = failed_tries
    mine = sa.and_(f.c.email == email[:254], f.c.origin == origin[:64])
    connection.execute(sa.delete(f).where(mine))
    old = connection.execute(sa.select(f.c.email, f.c.origin).where(f.c.last_at < before).limit(100)).all()
    if old:  # one by one: pairs in a list are not looked up by the key here
        one = sa.delete(f).where(f.c.email == sa.bindparam("of"), f.c.origin == sa.bindparam("from"))
        connection.execute(one, [{"of": each.email, "from": each.origin} for each in old])


def forget_tries(connection: sa.Connection, email: str) -> None:
    """Forget all tries at an address."""
    f = failed_tries
    for each in connection.scalars(sa.select(f.c.origin).where(f.c.email == email)).all():
        connection.execute(sa.delete(f).where(f.c.email == email, f.c.origin == each))


def set_demo_clock(connection: sa.Connection, demo_at: datetime, real_at: datetime) -> None:
    """Let the demo's time run on from an instant."""
    connection.execute(sa.delete(demo_clock))
    connection.execute(sa.insert(demo_clock).values(demo_at=demo_at, real_at=real_at))


def add_link(connection: sa.Connection, row: dict[str, Any]) -> None:
    """Keep a link."""
    connection.execute(sa.insert(sign_in_links).values(row))


def drop_links(connection: sa.Connection, kind: str, sign_in_id: int | None) -> None:
    """Links of a kind (for a sign-in) work no more."""
    k = sign_in_links
    mine = k.c.sign_in_id.is_(None) if sign_in_id is None else k.c.sign_in_id == sign_in_id
    found = list(connection.scalars(sa.select(k.c.token_hash).where(mine, k.c.kind == kind)))
    if found:
        connection.execute(sa.delete(k).where(k.c.token_hash.in_(found)))


def link(connection: sa.Connection, token_hash: str, locked: bool) -> LinkRecord | None:
    """A link by its token's hash."""
    wanted = sa.select(sign_in_links).where(sign_in_links.c.token_hash == token_hash)
    return fetch_first(connection, wanted.with_for_update() if locked else wanted, LinkRecord)


def use_link(connection: sa.Connection, token_hash: str, at: datetime) -> None:
    """Note that a link is used."""
    connection.execute(sa.update(sign_in_links).where(sign_in_links.c.token_hash == token_hash).values(used_at=at))


def linked_since(connection: sa.Connection, kind: str, sign_in_id: int, since: datetime) -> bool:
    """Whether a sign-in got a link of a kind after an instant."""
    k = sign_in_links
    wanted = sa.select(sa.literal(1)).where(k.c.sign_in_id == sign_in_id, k.c.kind == kind, k.c.made_at > since)
    return connection.execute(wanted).first() is not None


def sessions_of(connection: sa.Connection, sign_in_id: int) -> list[SessionRecord]:
    """The sessions of a sign-in, the last used first."""
    mine = sa.select(sessions).where(sessions.c.sign_in_id == sign_in_id)
    return fetch(connection, mine.order_by(sessions.c.last_used.desc()), SessionRecord)


def end_sessions_named(connection: sa.Connection, token_hashes: Collection[str]) -> None:
    """Forget sessions by their tokens' hashes."""
    if token_hashes:
        connection.execute(sa.delete(sessions).where(sessions.c.token_hash.in_(token_hashes)))


def has_session_from(connection: sa.Connection, sign_in_id: int, origin: str) -> bool:
    """Whether a sign-in has a session that began from an address."""
    s = sessions
    wanted = sa.select(s.c.sign_in_id).where(s.c.sign_in_id == sign_in_id, s.c.origin == origin[:64]).limit(1)
    return connection.execute(wanted).first() is not None
