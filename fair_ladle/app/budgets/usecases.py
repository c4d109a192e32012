"""Setting budgets, how far they are spent, and telling before they are passed."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

import sqlalchemy as sa
from sqlalchemy.dialects import mysql

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.accounts.service import Accounts
from fair_ladle.app.budgets.tables import budgets
from fair_ladle.app.log import service as log_service
from fair_ladle.app.notices import service as notices_service
from fair_ladle.app.notices.service import Notice
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import conflict, invalid, not_allowed
from fair_ladle.app.statements.forecasts import forecast
from fair_ladle.app.statements.ledger import Ledger
from fair_ladle.app.statements.rate_cards import RateCards, decimals_of, what_more_costs
from fair_ladle.connectors.printed import figure
from fair_ladle.core.calendar import month_of
from fair_ladle.core.quantities import half_up

MOST = Decimal(10) ** 12


@dataclass(frozen=True)
class Spent:
    """What an account costs this month before tax: so far, and likely at its end. Of an account that has no statement
    of its own it is its part of the usage lines of the one above it that has."""

    so_far: Decimal
    likely: Decimal


@dataclass(frozen=True)
class Budget:
    """An account's budget a month before tax; ``amount`` None where it has none; ``spent`` None where nobody charges it
    in that currency, or what it is charged by is above the actor. ``may_set``: the actor may change it."""

    account: str
    name: str
    amount: Decimal | None
    currency: str
    spent: Spent | None
    may_set: bool


def budget(tx: Transaction, actor: Actor, account: str) -> Budget:
    """An account's budget and how far it is spent, for whoever runs it or an account above it."""
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, account)
    found = _row(tx, int(accounts.ids[row]))
    currency = found.currency if found else accounts.inherited(row, "currency") or ""
    amount = None if found is None else half_up(found.amount, decimals_of(currency))
    may_set = found is None or _is_at_or_above(accounts, actor, found.set_from_id)
    buyer = buyer_of(tx, account)
    is_seen = buyer is not None and accounts_service.is_in_scope(accounts, actor, buyer)
    now = spent(tx, account, currency) if is_seen else None
    return Budget(account, accounts.name(row), amount, currency, now, may_set)


def _row(tx: Transaction, account_id: int) -> sa.Row[tuple[object, ...]] | None:
    return tx.connection.execute(sa.select(budgets).where(budgets.c.account_id == account_id)).first()


def _is_at_or_above(accounts: Accounts, actor: Actor, account_id: int) -> bool:
    """Whether the actor's branch holds an account."""
    return accounts_service.sees(accounts, actor, account_id)


def set_budget(tx: Transaction, actor: Actor, account: str, amount: Decimal | None) -> None:
    """Give an account another budget, or (None) none. What somebody above has set, only they change.

    Writes one row by its key, as it was read: refused where somebody else has set it meanwhile, so that who is below
    never overwrites who is above.
    """
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, account)
    account_id, currency = int(accounts.ids[row]), accounts.inherited(row, "currency") or ""
    found = _row(tx, account_id)
    if found is not None and not _is_at_or_above(accounts, actor, found.set_from_id):
        raise not_allowed("This budget was set by an account above; only they change it.")
    if not currency:
        raise invalid("Neither the account nor any above it has a currency.", "amount")
    if amount is not None and not (0 < amount < MOST and amount == round(amount, decimals_of(currency))):
        raise invalid(f"An amount above 0 with at most {decimals_of(currency)} decimals.", "amount")
    as_read = None if found is None else budgets.c.set_from_id == found.set_from_id
    if amount is None:
        written = as_read is None or (
            tx.connection.execute(sa.delete(budgets).where(budgets.c.account_id == account_id, as_read)).rowcount == 1
        )
    else:
        values = {
            "amount": amount,
            "currency": currency,
            "set_from_id": int(accounts.ids[accounts_service.top_row(accounts, actor)]),
            "set_by": actor.name[:254],
            "set_at": tx.now,
        }
        if as_read is None:
            new = mysql.insert(budgets).prefix_with("IGNORE").values(account_id=account_id, **values)
            written = tx.connection.execute(new).rowcount == 1
        else:
            other = sa.update(budgets).where(budgets.c.account_id == account_id, as_read).values(**values)
            written = tx.connection.execute(other).rowcount == 1
    if not written:
        raise conflict("Somebody else has set this budget meanwhile. Look again.")
    told = [
        {"budget": "none" if each is None else f"{half_up(each, decimals_of(currency)):f} {currency}"}
        for each in (found.amount if found else None, amount)
    ]
    log_service.write(tx, actor, None, [log_service.Entry("budget", account, account_id, *told)])


def spent(tx: Transaction, account: str, currency: str) -> Spent | None:
    """What an account costs this month in a currency. Trusted: the caller has judged scope."""
    first, last = month_of(f"{accounts_service.today(tx):%Y-%m}")
    buyer = buyer_of(tx, account)
    if buyer is None:
        return None
    expected = next((each for each in forecast(tx, buyer, first, last) if each.currency == currency), None)
    if expected is None:
        return None
    if buyer == account:
        return Spent(expected.net_so_far, expected.net.likely)
    # A department has no discounts or taxes of its own: its part of the lines, going on as the whole does.
    ledger = Ledger(tx, [buyer])
    lines = [each for each in ledger.period(first).lines(buyer) if each.currency == currency]
    tree = accounts_service.known(tx).tree  # a department that came this month did not stand here on its first day
    branch = {tree.codes[row] for row in tree.branch(tree.row(account)).tolist()}
    mine = sum((part.amount for line in lines for part in line.shares if part.account in branch), Decimal(0))
    whole = expected.net_so_far
    likely = mine * expected.net.likely / whole if whole > 0 else mine
    return Spent(mine, half_up(likely, decimals_of(currency)))


def buyer_of(tx: Transaction, account: str) -> str | None:
    """The account itself, or the nearest above it, that somebody has prices for. Trusted: it may be above the actor."""
    accounts = accounts_service.known(tx)
    sellers, tree = RateCards(tx, accounts).sellers, accounts.tree
    way = [row for row in tree.path_up(tree.row(account)) if row > 0]
    return next((tree.codes[row] for row in way if tree.codes[int(tree.parent[row])] in sellers), None)


def would_pass(tx: Transaction, actor: Actor, account: str, product: str, more: Decimal) -> list[str]:
    """Which budgets so many units more would pass at a month's end, in a sentence each: the account's, and those above
    it up to the account that is charged; nothing where the actor does not run that one."""
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, account)
    today, buyer, cards = accounts_service.today(tx), buyer_of(tx, account), RateCards(tx, accounts)
    if buyer is None or not accounts_service.is_in_scope(accounts, actor, buyer):
        return []
    rate, (first, _) = cards.rate(buyer, product, today), month_of(f"{today:%Y-%m}")
    if rate is None:
        return []
    charged = Ledger(tx, [buyer]).period(first).charged(buyer, product)
    quantity = charged[2].quantity if charged else Decimal(0)
    extra = what_more_costs(rate, quantity, more, cards.currency(rate))
    if not extra:
        return []
    found = []
    # Above the buyer others are charged, at prices of their own.
    way = [each for each in accounts.tree.path_up(row) if each in accounts.tree.branch(accounts.tree.row(buyer))]
    for each in way:
        code = accounts.tree.codes[each]
        kept = _row(tx, int(accounts.ids[each]))
        if kept is None:
            continue
        now = spent(tx, code, kept.currency) if kept.currency == cards.currency(rate) else None
        if now is not None and now.likely + extra > kept.amount:
            amount, total = (
                f"{figure(half_up(one, decimals_of(kept.currency)))} {kept.currency}"
                for one in (kept.amount, now.likely + extra)
            )
            found.append(f"{accounts.name(each)} would come to {total} a month; its budget is {amount}.")
    return found


def with_budget(tx: Transaction) -> list[str]:
    """The accounts (codes) that have a budget."""
    accounts = accounts_service.known(tx)
    ids = tx.connection.scalars(sa.select(budgets.c.account_id).order_by(budgets.c.account_id))
    return [accounts.tree.codes[accounts.row_of_id[each]] for each in ids if each in accounts.row_of_id]


def judge(tx: Transaction, account: str) -> None:
    """Tell, once a month each, that an account's budget is likely to be passed, and that it is: its admins and those
    above, or, of a department, the admins of the account that is charged for it. Trusted: jobs call it. Reads without
    locks; that it was told is the notice's key."""
    accounts = accounts_service.known(tx)
    row = accounts.tree.row(account)
    found = _row(tx, int(accounts.ids[row]))
    now = None if found is None else spent(tx, account, found.currency)
    if found is None or now is None:
        return
    month, decimals = accounts_service.today(tx), decimals_of(found.currency)
    amount, so_far, likely = (
        f"{figure(half_up(each, decimals))} {found.currency}" for each in (found.amount, now.so_far, now.likely)
    )
    name, wanted = accounts.name(row), []
    if now.so_far > found.amount:
        text = f"It costs {so_far} so far in {month:%B %Y}, before tax; its budget is {amount}."
        wanted.append(("passed", f"{name} has passed its budget", text))
    elif now.likely > found.amount:
        text = f"It is likely to cost {likely} in {month:%B %Y}, before tax; its budget is {amount}."
        wanted.append(("likely", f"{name} is likely to pass its budget", text))
    buyer = buyer_of(tx, account) or account
    told = int(accounts.ids[accounts.tree.row(buyer)])
    notices = [
        Notice(f"budget {kind} {account} {month:%Y-%m}", "budget", told, subject, text, parent_too=buyer == account)
        for kind, subject, text in wanted
    ]
    notices_service.notify(tx, accounts, notices)
