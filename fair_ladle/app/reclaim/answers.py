"""What whoever was told says by the link of their notice: that they still need what they have."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import Problem, Refused
from fair_ladle.app.reclaim import store


@dataclass(frozen=True)
class NoticeAnswer:
    """What the link of a notice shows."""

    name: str
    until: datetime
    needed: bool


def _notice(tx: Transaction, token: str) -> Any:
    row = store.by_token(tx.connection, hashlib.sha256(token.encode()).hexdigest())
    if row is None:
        raise Refused(
            Problem(
                "not-found",
                "No such notice",
                404,
                "There is no notice at this address: it was answered, or it is over.",
            )
        )
    return row


def asked(tx: Transaction, token: str) -> NoticeAnswer:
    """A notice by its link; refused where it is over."""
    row = _notice(tx, token)
    return NoticeAnswer(row.display_name, row.told_at + timedelta(days=row.notice_days), row.needed_at is not None)


def still_need_it(tx: Transaction, token: str) -> NoticeAnswer:
    """Whoever was told keeps what they have, until the policy's days are over again."""
    row = _notice(tx, token)
    store.still_needed(tx.connection, row.policy_id, row.person_id, tx.now)
    log_service.write(
        tx,
        Actor(row.display_name, "", None),
        None,
        [log_service.Entry("still needed", row.username, row.account_id, None, {"asked by": row.name})],
    )
    return NoticeAnswer(row.display_name, row.told_at + timedelta(days=row.notice_days), True)
