"""From somebody's seat back to what it is charged in: hours of a month, the account's part of a line, the statement."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from decimal import Decimal

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.people import service as people
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import not_found
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.pools.service import Product
from fair_ladle.app.statements.billing import parse_month
from fair_ladle.app.statements.usecases import seller_as_seen, statements
from fair_ladle.app.usage import service as usage
from fair_ladle.core.calendar import MICRO, day_start, instant


@dataclass(frozen=True)
class ChargedIn:
    """A statement in which an account's use of a product is charged: the account's part of the line, the line, and what
    the statement comes to with tax; ``number`` None while the month is open."""

    buyer: str
    buyer_name: str
    seller: str
    account_name: str
    part: Decimal
    line: Decimal
    total: Decimal
    currency: str
    number: str | None


@dataclass(frozen=True)
class Trace:
    """A product of somebody's in a month: hours of it in each account, and the statements it is charged in."""

    product: Product
    first: date
    hours: Decimal
    of_hours: int
    charged_in: list[ChargedIn]


def trace(tx: Transaction, actor: Actor, username: str, product: str, month: str) -> Trace:
    """Where somebody of the actor's branch is charged for with a product in a month, as far as that has been read."""
    first, last = parse_month(month)
    wanted, accounts, zone = pools_service.product(tx, product), accounts_service.known(tx), accounts_service.zone(tx)
    begin = instant(day_start(first, zone) * MICRO)
    end = instant(day_start(date.fromordinal(last.toordinal() + 1), zone) * MICRO)
    rows = [
        each
        for each in (usage.of_subject(tx, wanted, username, begin, end) if wanted.is_personal else [])
        if accounts_service.sees(accounts, actor, each.account_id)
    ]
    person = people.by_username(tx, [username]).get(username)
    if not rows and (person is None or not accounts_service.sees(accounts, actor, person.account_id)):
        raise not_found("person", username)
    until, seconds = min(end, tx.now), 0.0
    found: dict[tuple[str, str, str], ChargedIn] = {}
    for account_id in dict.fromkeys(each.account_id for each in rows):
        place = accounts.row_of_id[account_id]
        code, top = accounts.tree.codes[place], accounts_service.top_row(accounts, actor)
        way = accounts.tree.path_up(place)
        for row in way[: way.index(top) + 1]:
            buyer = accounts.tree.codes[row]
            for each in statements(tx, actor, buyer, month)[1] if row else ():
                for line in each.lines:
                    part = next((share.amount for share in line.shares if share.account == code), None)
                    if line.product.code == product and part is not None:
                        found[each.seller, buyer, code] = ChargedIn(
                            buyer,
                            accounts.name(row),
                            seller_as_seen(accounts, actor, each.seller),
                            accounts.name(place),
                            part,
                            line.charge.amount,
                            each.total,
                            each.currency,
                            each.number,
                        )
    for each in rows:
        seconds += max(0.0, (min(each.ends or until, until) - max(each.begins, begin)).total_seconds())
    hours = Decimal(round(seconds)) / 3600
    return Trace(wanted, first, hours, round((end - begin).total_seconds()) // 3600, list(found.values()))
