"""What may stop a write besides its account's limits: a person's own limit, or a shared folder's. It is asked for with
the counters, under their locks, and judged with what is to be written."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.people.rows import PersonFacts
from fair_ladle.app.personal_storage import usecases as personal_storage
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.prepared import Question
from fair_ladle.app.plumbing.problems import Problem, Refused
from fair_ladle.app.pools.service import Product
from fair_ladle.app.storage import folders
from fair_ladle.app.usage import service as usage
from fair_ladle.core.calendar import MICRO, day_name, day_start, instant, local_day


@dataclass(frozen=True)
class Limited:
    """A category of an account, and the person whose own it is, if it is that of one who is there."""

    reading: Transaction
    """Sees generations of one instant: nothing of it is written."""
    actor: Actor
    product: Product
    account_id: int
    category: str
    person: PersonFacts | None

    @property
    def _folder(self) -> str | None:
        return self.category.split("/")[1] if self.category.startswith("folder/") else None

    def asks(self) -> list[Question[Any]]:
        """What has to be known."""
        if self._folder is not None:
            return [folders.standing(self.product, self.account_id, self._folder)]
        found = None if self.person is None else personal_storage.standing(self.reading, self.product, self.person)
        return [] if found is None else [found]

    def looked_at(
        self, now: datetime, answers: Sequence[Any], grains: int
    ) -> tuple[personal_storage.Storage | None, str | None]:
        """The person's own storage, where a layer limits it, and why so many grains more would be refused, if so."""
        for found in answers:
            if self._folder is not None:
                return None, folders.why_full(self.product, found, usage.grains(found.bytes) + grains)
            mine = self._personal(found, 0)
            if mine is not None:
                return mine, self._past(now, mine, grains, found.past_limit_since)
        return None, None

    def judge(self, tx: Transaction, answers: Sequence[Any], size: int) -> None:
        """Refused where with so many bytes more the person is over their own limit, or the folder over its, and that
        stops."""
        for found in answers:
            if self._folder is not None:
                why = folders.why_full(self.product, found, usage.grains(found.bytes + size))
                if why is not None:
                    raise Refused(Problem("at-limit", "No room for that", 409, why, {"folder": self.category}))
                return
            mine = self._personal(found, size)
            if mine is None or mine.limit is None or self.person is None:
                return
            username, was = self.person.username, found.past_limit_since
            since = usage.past_limit(tx, self.product, self.account_id, username, was, mine.used > mine.limit)
            why = self._past(tx.now, mine, 0, since)
            if why is not None:
                raise Refused(Problem("at-limit", "No room for that", 409, why, {"person": self.category}))

    def _personal(self, found: personal_storage.Standing, more: int) -> personal_storage.Storage | None:
        if self.person is None:
            return None
        return personal_storage.of_person(self.reading, self.actor, self.product, self.person, found, more)

    def _past(self, now: datetime, mine: personal_storage.Storage, more: int, since: datetime | None) -> str | None:
        """Why a person's own limit, which they are over since an instant (None = are not), lets nobody write so many
        grains more; None where it does."""
        assert mine.limit is not None and self.person is not None
        if mine.at_limit.what == "tell" or mine.used + more <= mine.limit:
            return None
        stores = f"{self.product.said(mine.used)} of {self.product.said(mine.limit)}"
        said = f"{self.person.display_name} stores {stores} ({mine.source})"
        if mine.at_limit.what == "grace":
            zone = accounts_service.zone(self.reading)
            last = local_day(since or now, zone) + timedelta(days=mine.at_limit.grace_days or 0)
            if now < instant(day_start(last + timedelta(days=1), zone) * MICRO):
                return None
            said += f"; its days of grace ended on {day_name(last)}"
        return f"{said}."
