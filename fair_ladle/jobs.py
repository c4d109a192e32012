"""What is done beside requests, again and again: one class a job."""

from __future__ import annotations

import time
from collections.abc import Callable
from datetime import datetime, timedelta
from typing import ClassVar

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.allocations import ahead, keeping
from fair_ladle.app.assignments import following
from fair_ladle.app.assignments import service as assignments
from fair_ladle.app.budgets import usecases as budgets
from fair_ladle.app.drafts import jobs as drafts
from fair_ladle.app.enforcement import enforcing as enforcement_enforcing
from fair_ladle.app.entitlements import reconciling
from fair_ladle.app.leases import jobs as lease_jobs
from fair_ladle.app.log import service as log_service
from fair_ladle.app.people import memberships
from fair_ladle.app.people_import import service as people_import_service
from fair_ladle.app.people_import import usecases as people_import
from fair_ladle.app.personal_storage import telling
from fair_ladle.app.plumbing import generations, once, outbox
from fair_ladle.app.plumbing.database import Database, Transaction, batched
from fair_ladle.app.plumbing.schedule import Job
from fair_ladle.app.plumbing.settings import Settings, networks
from fair_ladle.app.pools import service as pools
from fair_ladle.app.pools.service import Product
from fair_ladle.app.receivables.sending import enclosures
from fair_ladle.app.reclaim import idle_seats
from fair_ladle.app.reclaim import jobs as reclaim_jobs
from fair_ladle.app.statements import closing_runs, totals
from fair_ladle.app.storage import folders, left_behind
from fair_ladle.app.storage import forecasts as storage_forecasts
from fair_ladle.app.storage_systems import running as storage_running
from fair_ladle.app.storage_systems import usecases as reservations
from fair_ladle.app.usage import service as usage
from fair_ladle.app.usage import whose
from fair_ladle.connectors.mail import Smtp

GoingOn = Callable[[], bool]
OVERLAP = timedelta(hours=1)
"""What ended is looked for from so long before the last look on: somebody may have been writing it then."""


class SealLog(Job):
    """Seal new entries of the log."""

    name: ClassVar[str] = "seal the log"
    every: ClassVar[timedelta] = timedelta(minutes=1)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Part by part."""
        while going_on() and database.run(log_service.seal_new) == log_service.AT_ONCE:
            pass


class RebuildCounters(Job):
    """Make counters anew that hold no longer, product by product."""

    name: ClassVar[str] = "rebuild counters"
    every: ClassVar[timedelta] = timedelta(seconds=5)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Each product in a transaction of its own."""
        products = database.run(pools.products)
        self.each(
            database,
            products,
            lambda product: database.run(assignments.rebuild_stale, [product]),
            going_on,
            lambda product: product.code,
        )


class DropEndedClaims(Job):
    """Give up claims that ended by themselves."""

    name: ClassVar[str] = "drop ended claims"
    every: ClassVar[timedelta] = timedelta(minutes=5)

    def __init__(self) -> None:
        self._seen_to: datetime | None = None
        """Up to when nothing is left; None = nobody has looked since the start."""

    def run(self, database: Database, going_on: GoingOn) -> None:
        """What ended since the last run, until nothing of it is left."""
        now, since = database.clock.now(), self._seen_to
        while going_on() and database.run(assignments.drop_ended_claims, since and since - OVERLAP):
            pass
        self._seen_to = now


class CountIdleSeats(Job):
    """Count the seats of people who have not been seen for long."""

    name: ClassVar[str] = "count idle seats"
    every: ClassVar[timedelta] = timedelta(minutes=15)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Everywhere at once."""
        database.run(idle_seats.count_all)


class AddUpUse(Job):
    """Add what was taken and released up the tree."""

    name: ClassVar[str] = "add up use"
    every: ClassVar[timedelta] = timedelta(seconds=1)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Part by part, each in a transaction of its own; then the caps that follow what was added up."""
        while going_on() and (products := database.run_repeatable(assignments.add_up_use)):
            database.run(following.follow_seats, products)


class DeleteFolders(Job):
    """Let shared folders be gone whose waiting time is over."""

    name: ClassVar[str] = "delete shared folders"
    every: ClassVar[timedelta] = timedelta(minutes=5)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Each in a transaction of its own."""
        self.each(database, database.run(folders.due), lambda each: database.run(folders.let_go, each), going_on)


class DeleteLeftBehind(Job):
    """Let be gone what people left behind and whose time is over."""

    name: ClassVar[str] = "delete what was left behind"
    every: ClassVar[timedelta] = timedelta(minutes=5)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Each in a transaction of its own."""
        every = database.run(left_behind.due)
        self.each(database, every, lambda each: database.run(left_behind.let_go, *each), going_on)


class TellStorageLimits(Job):
    """Tell people that they are near or over their storage limit, and their admins together."""

    name: ClassVar[str] = "tell storage limits"
    every: ClassVar[timedelta] = timedelta(minutes=15)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Product by product, part by part."""
        for product in database.run(telling.limited):
            while going_on() and database.run(telling.tell, product):
                pass


class AskStorage(Job):
    """Ask storage systems that are due who stores how much."""

    name: ClassVar[str] = "ask storage systems"
    every: ClassVar[timedelta] = timedelta(seconds=20)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """One after the other; each keeps what became of it."""
        self.each(
            database,
            database.run(storage_running.due),
            lambda each: storage_running.run(database, each, going_on),
            going_on,
        )


class EndReservations(Job):
    """Let uploads that nobody committed in time hold nothing any more."""

    name: ClassVar[str] = "end reservations"
    every: ClassVar[timedelta] = timedelta(seconds=15)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Each in a transaction of its own."""
        self.each(
            database,
            database.run(reservations.lapsed),
            lambda each: database.run(reservations.lapse, *each),
            going_on,
            lambda each: each[2][:12],
        )


def _for_storage(
    job: Job, database: Database, going_on: GoingOn, work: Callable[[Transaction, Product], object]
) -> None:
    job.each(
        database,
        [each for each in database.run(pools.products) if each.is_storage],
        lambda each: database.run_repeatable(work, each),
        going_on,
        lambda each: each.code,
    )


class AgeStored(Job):
    """Count what is stored a week, a month and a quarter ago from today."""

    name: ClassVar[str] = "age what is stored"
    every: ClassVar[timedelta] = timedelta(minutes=1)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Each storage product in a transaction of its own; once a day there is something to do."""
        _for_storage(self, database, going_on, assignments.age_stored)


class SettleStored(Job):
    """Look through whose is what is stored, which on a cluster can be missed where two nodes pass one another."""

    name: ClassVar[str] = "look whose is what is stored"
    every: ClassVar[timedelta] = timedelta(hours=6)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Each storage product some accounts at a time, each in a transaction of its own."""
        ids = [int(each) for each in database.run(accounts_service.known).ids]
        for product in [each for each in database.run(pools.products) if each.is_storage]:
            for part in batched(ids):
                if going_on():
                    database.run(usage.settle_whose_in, product, part)


class ForecastStorage(Job):
    """Reckon when what branches may store is full."""

    name: ClassVar[str] = "forecast storage"
    every: ClassVar[timedelta] = timedelta(minutes=30)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Each storage product in a transaction of its own."""
        _for_storage(self, database, going_on, storage_forecasts.keep)


class ApplyDueDrafts(Job):
    """Apply scheduled drafts whose day has come."""

    name: ClassVar[str] = "apply drafts that are due"
    every: ClassVar[timedelta] = timedelta(seconds=30)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Each in a transaction of its own; one that cannot be applied is held back."""
        self.each(database, database.run(drafts.due), lambda each: drafts.apply_one(database, each), going_on)


class Reconcile(Job):
    """Make seats follow what layers give."""

    name: ClassVar[str] = "reconcile entitlements"
    every: ClassVar[timedelta] = timedelta(minutes=1)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """All layers at once."""
        database.run(reconciling.reconcile)


class ImportPeople(Job):
    """Begin people imports planned for today, and go on with those whose server is gone."""

    name: ClassVar[str] = "import people"
    every: ClassVar[timedelta] = timedelta(seconds=30)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Import by import."""
        self.each(
            database,
            database.run(people_import_service.under_way),
            lambda each: people_import.work(database, each, going_on),
            going_on,
        )


class KeepMemberships(Job):
    """Ask the rules of groups again about who changed."""

    name: ClassVar[str] = "keep members by rule"
    every: ClassVar[timedelta] = timedelta(seconds=2)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Part by part, each in a transaction of its own."""
        while going_on() and database.run(memberships.catch_up, whose.follow):
            pass


class EndLostSessions(Job):
    """End sessions that no heartbeat came for."""

    name: ClassVar[str] = "end lost sessions"
    every: ClassVar[timedelta] = timedelta(seconds=20)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Part by part, each in a transaction of its own."""
        while going_on() and database.run(lease_jobs.end_lost) == lease_jobs.AT_ONCE:
            pass


class ReclaimIdle(Job):
    """Run the reclaim policies that run daily."""

    name: ClassVar[str] = "reclaim idle seats"
    every: ClassVar[timedelta] = timedelta(minutes=15)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Each in a transaction of its own."""
        self.each(
            database,
            database.run(reclaim_jobs.due_today),
            lambda policy_id: database.run(reclaim_jobs.run_due, policy_id),
            going_on,
        )


class Enforce(Job):
    """Bring clocks, holds and thresholds up to now."""

    name: ClassVar[str] = "enforce"
    every: ClassVar[timedelta] = timedelta(minutes=5)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Product by product."""
        codes = [each.code for each in database.run(pools.products)]
        self.each(database, codes, lambda code: database.run(enforcement_enforcing.enforce, code), going_on)


class FreeMended(Job):
    """Take off hold what fits again: whoever raised a cap or released a unit is not to wait for the run over
    everything."""

    name: ClassVar[str] = "take off hold"
    every: ClassVar[timedelta] = timedelta(seconds=3)

    def __init__(self) -> None:
        self._tried: dict[str, object] = {}

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Product by product, each once for what there is to free."""
        found = database.snapshot(enforcement_enforcing.mended)
        new = [code for code, cells in found.items() if self._tried.get(code) != cells]
        self._tried = dict(found)
        self.each(database, new, lambda code: database.run(enforcement_enforcing.enforce, code), going_on)


class KeepHeldAhead(Job):
    """Keep by how much more is held of pools on the days on which allocations or use are known to begin or end."""

    name: ClassVar[str] = "keep what is held ahead"
    every: ClassVar[timedelta] = timedelta(minutes=1)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Product by product."""
        self.each(
            database,
            database.run(pools.products),
            lambda product: database.run_repeatable(ahead.keep, product),
            going_on,
            lambda product: product.code,
        )


class KeepMonths(Job):
    """Keep what the last months come to for every buyer."""

    name: ClassVar[str] = "keep what months come to"
    every: ClassVar[timedelta] = timedelta(minutes=1)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Product by product, the newest month first, each read as of one instant and then kept."""
        database.run(generations.forget_late_accounts)
        database.run(totals.forget_old_readings)
        self.each(
            database,
            database.snapshot(lambda tx: list(totals.outdated(tx))),
            lambda each: totals.keep_again(database, *each),
            going_on,
            lambda each: f"{each[0].code} {each[1]:%Y-%m}",
        )


class CloseMonths(Job):
    """Go on with closings whose server is gone."""

    name: ClassVar[str] = "close months"
    every: ClassVar[timedelta] = timedelta(seconds=10)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Month by month."""
        self.each(
            database,
            database.run(closing_runs.under_way),
            lambda each: closing_runs.work(database, *each, going_on),
            going_on,
            lambda each: f"{each[0]} {each[1]:%Y-%m}",
        )


class JudgeBudgets(Job):
    """Tell where a budget is likely to be passed."""

    name: ClassVar[str] = "judge budgets"
    every: ClassVar[timedelta] = timedelta(hours=1)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Account by account."""
        self.each(
            database,
            database.run(budgets.with_budget),
            lambda account: database.run(budgets.judge, account),
            going_on,
        )


class KeepDays(Job):
    """Keep days that are over as they were settled."""

    name: ClassVar[str] = "keep days that are over"
    every: ClassVar[timedelta] = timedelta(minutes=1)
    at_once: ClassVar[float] = 20.0
    """Seconds of each run: after an intake there are weeks of days to make."""

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Day by day, the newest first, each read as of one instant and then kept."""
        until = time.monotonic() + self.at_once
        self.each(
            database,
            database.snapshot(lambda tx: keeping.together(keeping.outdated(tx))),
            lambda each: keeping.keep_again(database, *each),
            lambda: going_on() and time.monotonic() < until,
            lambda each: f"{each[0].code} {max(each[1])}",
        )


class ForgetRequestKeys(Job):
    """Drop the keys of requests that nobody comes back with any more."""

    name: ClassVar[str] = "forget request keys"
    every: ClassVar[timedelta] = timedelta(minutes=10)

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Part by part."""
        while going_on() and database.run(once.forget_old) >= once.AT_ONCE:
            pass


class SendMail(Job):
    """Send what is in the outbox. Mail waits there where no server is named."""

    name: ClassVar[str] = "send mail"
    every: ClassVar[timedelta] = timedelta(seconds=10)
    lease: ClassVar[timedelta] = timedelta(minutes=2)

    def __init__(self, smtp: Smtp):
        self._smtp = smtp

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Mail by mail."""
        outbox.send(database, self._smtp.deliver, going_on, bulk=False)


class SendDocuments(Job):
    """Send mails with documents. At a month's end there may be thousands: other mail does not wait for them."""

    name: ClassVar[str] = "send documents"
    every: ClassVar[timedelta] = timedelta(seconds=10)
    lease: ClassVar[timedelta] = timedelta(minutes=2)

    def __init__(self, smtp: Smtp):
        self._smtp = smtp

    def run(self, database: Database, going_on: GoingOn) -> None:
        """Mail by mail, each with its documents as they are made."""
        outbox.send(database, self._smtp.deliver, going_on, enclosures, bulk=True)


def jobs(settings: Settings) -> list[Job]:
    """Every job of a server with these settings."""
    found: list[Job] = [
        SealLog(),
        RebuildCounters(),
        DropEndedClaims(),
        CountIdleSeats(),
        AddUpUse(),
        ApplyDueDrafts(),
        Reconcile(),
        ImportPeople(),
        KeepMemberships(),
        EndLostSessions(),
        ReclaimIdle(),
        Enforce(),
        FreeMended(),
        AgeStored(),
        SettleStored(),
        ForecastStorage(),
        EndReservations(),
        AskStorage(),
        TellStorageLimits(),
        DeleteFolders(),
        DeleteLeftBehind(),
        KeepHeldAhead(),
        KeepMonths(),
        KeepDays(),
        CloseMonths(),
        JudgeBudgets(),
        ForgetRequestKeys(),
    ]
    if settings.smtp_url is not None:
        smtp = Smtp(settings.smtp_url, settings.mail_from, networks(settings.outbound))
        found += [SendMail(smtp), SendDocuments(smtp)]
    return found
