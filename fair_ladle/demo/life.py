"""An autumn's work for the demo, through the use-cases: caps raised week by week, then requests, drafts, entitlements,
policies, self sign-up, reservations and delegations, so that no screen opens empty."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import date, datetime, timedelta
from decimal import Decimal
from functools import partial
from typing import Any

import sqlalchemy as sa

from fair_ladle.app.allocations import views
from fair_ladle.app.budgets import usecases as budgets
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.drafts import usecases as drafts
from fair_ladle.app.drafts.change_types import AllocationChange, Terms, Until
from fair_ladle.app.drafts.reversing import terms_of
from fair_ladle.app.entitlements import usecases as entitlements
from fair_ladle.app.entitlements.usecases import EntitlementTerms
from fair_ladle.app.people_admin import acting, domains, listing
from fair_ladle.app.people_admin.listing import Asked
from fair_ladle.app.people_admin.seat_acts import ActOptions
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.tables import outbox
from fair_ladle.app.reclaim import usecases as reclaim
from fair_ladle.app.requests import usecases as requests
from fair_ladle.app.sign_in import delegating
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.app.sign_in.delegating import Wanted
from fair_ladle.app.statements import closing
from fair_ladle.connectors.sheets_in import SheetTable, Source
from fair_ladle.demo import receivables

OPERATOR, RESELLER, CLIENT = (
    ("admin.gannet@gannet.example", "GANNET"),
    ("admin.bramble@bramble.example", "BRAMBLE"),
    ("admin.oldquay@oldquay.example", "OLDQUAY"),
)
CAPS: tuple[tuple[int, str, str, int, str], ...] = (
    (76, "LARKHILL", "FIELD-FULL", 20, "Autumn season"),
    (69, "TERN", "FIELD-FULL", 20, "Two surveyors join"),
    (62, "QUILLON", "FIELD-CORE", 9, "As agreed on the phone"),
    (55, "PENNANT", "LANTERN-MAIL", 11, "New youth section"),
    (48, "NORTHFOLD", "CHARTROOM", 10, "Reading rooms open late"),
    (41, "MARROW", "CHARTROOM", 7, "Second clinic"),
    (34, "FENWICK", "DISPATCH", 5, "A driver for Sundays"),
    (27, "OLDQUAY", "FIELD-FULL", 24, "Winter timetable"),
    (13, "QUILLON", "LANTERN-MAIL", 16, "One more fitter"),
    (6, "MARROW", "LANTERN-MAIL", 91, "Trainees"),
)
"""Days ago, account, product, cap and note of the drafts applied in the weeks before."""
BEGAN = 80
"""So many days before its beginning the demo's operator set the product up."""
APART = timedelta(minutes=11)


def live(database: Database, now: datetime) -> None:
    """What happened in the weeks and hours before the demo begins; the clock stands at its beginning afterwards."""
    earlier: list[tuple[int, Callable[[Database], Any]]] = [
        (days, partial(_applied, account=account, product=product, cap=cap, note=note))
        for days, account, product, cap, note in CAPS
    ]
    earlier += [
        (78, partial(_closed, month="2026-08")),
        (60, partial(_paid, month="2026-08")),
        (52, partial(_closed, month="2026-09")),
        (46, _late_sample),
        (35, partial(_paid, month="2026-09", but=receivables.SLOW)),
        (33, _asked),
    ]
    for days, step in sorted(earlier, key=lambda each: -each[0]):
        database.clock.set_to(now - timedelta(days=days, minutes=7 * days))
        step(database)
    steps: list[Callable[[Database], Any]] = [
        _raised_for_december,
        _requests,
        _entitlements,
        _reservation,
        _sign_up,
        _policy,
        _delegations,
        _drafts_under_way,
        _asked_lately,
        _budgets,
    ]
    for place, step in enumerate(steps):
        database.clock.set_to(now - APART * (len(steps) - place))
        step(database)
    database.clock.set_to(now)


def _actor(database: Database, who: tuple[str, str]) -> Actor:
    def find(tx: Transaction) -> Actor | None:
        return sign_in_service.actor_for(tx, sign_in_service.find_by_email(tx, who[0]).id, who[1])  # type: ignore[union-attr]

    found = database.run(find)
    assert found is not None
    return found


def _cap(tx: Transaction, actor: Actor, account: str, product: str, cap: int) -> AllocationChange:
    there = views.terms(tx, actor, [(account, product)])[0].version
    was = terms_of(there)
    terms = (was or Terms(reserve=0)).model_copy(update={"cap": cap})
    return AllocationChange(account=account, product=product, terms=terms, seen=there.id if there else None, was=was)


def _applied(database: Database, account: str, product: str, cap: int, note: str, until: date | None = None) -> None:
    actor = _actor(database, OPERATOR)
    change = database.run(_cap, actor, account, product, cap)
    if until is not None:
        change = change.model_copy(update={"until": Until(last_day=until), "was_until": Until(last_day=None)})
    draft = database.run(drafts.edit, actor, None, 0, [change])
    database.run(drafts.apply, actor, draft.row.id, draft.row.revision, f"{note}.")


def _closed(database: Database, month: str) -> None:
    for who in (OPERATOR, RESELLER):
        actor = _actor(database, who)
        prepared = database.snapshot(closing.prepare, actor, who[1], month)
        database.run(closing.close, actor, prepared, "Looked through on the phone with the accountant.")
        receivables.sent(database, actor)


def _paid(database: Database, month: str, but: frozenset[str] = frozenset()) -> None:
    for who in (OPERATOR, RESELLER):
        receivables.paid(database, _actor(database, who), month, but)


def _asked(database: Database) -> None:
    operator, client = _actor(database, OPERATOR), _actor(database, CLIENT)
    receivables.paid_in_part(database, operator, "MARROW", "2026-09", Decimal("250.00"))
    text = "The Ticket Halls gave two seats back on 18 September. Are they still in here?"
    question = receivables.asked(database, client, "2026-09", ("usage", "FIELD-FULL"), text)
    says = "They count up to the 18th, which is what the days of this line show: open it, and then the 19th."
    receivables.answered(database, operator, question, says)


def _asked_lately(database: Database) -> None:
    client = _actor(database, CLIENT)
    text = "We deleted media in September and the quantity still grew. Which days made that?"
    receivables.asked(database, client, "2026-09", ("usage", "DEEPSHELF"), text)


def _late_sample(database: Database) -> None:
    """A device that had been away reports what it stored at the end of September, which is closed."""
    cells = ["OLDQUAY", "DEEPSHELF", "files", "2026-09-28T02:00:00+01:00", "61200000000"]
    table = SheetTable("storage", ["account", "product", "category", "at", "bytes"], iter([(2, cells)]))
    database.run(data_import.load, _actor(database, OPERATOR), Source({"storage": table}))


def _budgets(database: Database) -> None:
    for who, account, amount in (
        (OPERATOR, "QUILLON", "600"),
        (OPERATOR, "FENWICK", "1125"),
        (CLIENT, "OLDQUAY-CREW", "120"),
        (CLIENT, "OLDQUAY-TICKET", "220"),
    ):
        database.run(budgets.set_budget, _actor(database, who), account, Decimal(amount))


def _raised_for_december(database: Database) -> None:
    day = database.clock.now().date()
    _applied(database, "PENNANT", "WATCHGLASS", 12, "Tablets for the winter regatta", day.replace(month=12, day=20))


def _requests(database: Database) -> None:
    operator, client, reseller = (_actor(database, each) for each in (OPERATOR, CLIENT, RESELLER))
    for actor, account, product, amount, reason in (
        (client, "OLDQUAY", "WATCHGLASS", 3, "Three tablets for the new ferry"),
        (client, "OLDQUAY", "LANTERN-MAIL", 40, "Seasonal crew"),
        (client, "OLDQUAY", "FIELD-FULL", 2, "Two new pilots start on Monday"),
        (reseller, "BRAMBLE", "CHARTROOM", 2, "A second shift at Hazel & Moor"),
    ):
        asked = database.run(requests.ask, actor, account, product, amount, "cap", reason, None)
        if product == "WATCHGLASS":
            database.run(requests.grant, operator, asked.row.id, None, "Done, have a good start.")
        elif product == "LANTERN-MAIL":
            database.run(requests.refuse, operator, asked.row.id, "Please take over the ten idle mailboxes first.")


def _entitlements(database: Database) -> None:
    client = _actor(database, CLIENT)
    database.run(entitlements.put, client, EntitlementTerms("OLDQUAY", "OLDQUAY-LEADS", "FIELD-FULL", (), 10))
    database.run(entitlements.put, client, EntitlementTerms("OLDQUAY", None, "LANTERN-MAIL", (), 100))


def _reservation(database: Database) -> None:
    client = _actor(database, CLIENT)
    asked = Asked(account="OLDQUAY", status="invited")
    rows = database.run(listing.listing, client, asked, "name", False, 0, 1).rows
    names = [row.person.username for row in rows]
    database.run(acting.act, client, "reserve", Asked(usernames=tuple(names)), ActOptions(product="FIELD-CORE"))


def _sign_up(database: Database) -> None:
    client, operator = _actor(database, CLIENT), _actor(database, OPERATOR)
    database.run(domains.put_domain, client, "ferry-crew.example", "OLDQUAY", "approved")
    database.run(domains.approve, operator, "ferry-crew.example", "OLDQUAY")
    for name in ("Runa Falk", "Piet Maas"):
        address = f"{name.replace(' ', '.').lower()}@ferry-crew.example"
        database.run(domains.ask, address, name)
        body = database.run(_newest_mail, address)
        token = re.search(r"/joining/(\S+)", body)
        assert token is not None
        database.run(domains.prove, token.group(1))


def _newest_mail(tx: Transaction, address: str) -> str:
    wanted = sa.select(outbox.c.body).where(outbox.c.to_address == address).order_by(outbox.c.id.desc()).limit(1)
    return str(tx.connection.scalar(wanted))


def _policy(database: Database) -> None:
    operator = _actor(database, OPERATOR)
    policy = reclaim.Policy("NORTHFOLD", "Not seen for 90 days", "unseen", 90, (), (), 7, "release", False)
    database.run(reclaim.run, operator, database.run(reclaim.put, operator, None, policy))


def _delegations(database: Database) -> None:
    operator = _actor(database, OPERATOR)
    today = database.clock.now().date()
    for email, name, account, role, days in (
        ("lena.frost@gannet.example", "Lena Frost", "GANNET", "auditor", None),
        ("cover@gannet.example", "Jon Pell", "LARKHILL", "admin", 5),
        ("desk@gannet.example", "Service desk", "GANNET", "desk", None),
        ("billing@northfold.example", "Tess Arden", "NORTHFOLD", "billing", None),
    ):
        last_day = None if days is None else today + timedelta(days)
        database.run(delegating.give, operator, Wanted(email, name, account, role, last_day=last_day))


def _drafts_under_way(database: Database) -> None:
    operator, reseller = _actor(database, OPERATOR), _actor(database, RESELLER)
    change = database.run(_cap, operator, "TERN", "LANTERN-MAIL", 84)
    planned = database.run(drafts.edit, operator, None, 0, [change], (), "December intake at Tern")
    first = database.clock.now().date().replace(month=12, day=1)
    database.run(drafts.schedule, operator, planned.row.id, planned.row.revision, first)
    change = database.run(_cap, reseller, "HAZEL", "LANTERN-MAIL", 26)
    database.run(drafts.edit, reseller, None, 0, [change], (), "Hazel & Moor grows")
