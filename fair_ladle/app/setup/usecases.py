"""Setting a new installation up in the browser, and what is worth doing first in it."""

from __future__ import annotations

import re
import unicodedata
from dataclasses import dataclass

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.data_import import usecases as data_import
from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.addresses import email as an_email
from fair_ladle.app.plumbing.addresses import name as a_name
from fair_ladle.app.plumbing.database import Database, Transaction
from fair_ladle.app.plumbing.problems import conflict, invalid, not_allowed
from fair_ladle.app.pools import service as pools_service
from fair_ladle.app.setup import store
from fair_ladle.app.sign_in import links
from fair_ladle.app.sign_in import usecases as sign_in
from fair_ladle.connectors.sheets_in import SheetTable, Source


@dataclass(frozen=True)
class Operator:
    """Who the installation belongs to: the account at the top. ``code`` empty = made from the name."""

    name: str
    time_zone: str
    currency: str
    code: str = ""


@dataclass(frozen=True)
class Admin:
    """Who runs it first."""

    name: str
    email: str
    password: str


def new_link(tx: Transaction) -> str | None:
    """The token of a new link to set this installation up, which makes earlier ones void; None where it is set up."""
    return None if accounts_service.is_set_up(tx) else links.make(tx, "setup", links.LASTS["setup"])


def look_up(tx: Transaction, token: str) -> None:
    """Whether a link can be used; refused with the reason where not."""
    if accounts_service.is_set_up(tx):
        raise conflict("This installation is set up already; sign in.")
    links.look_up(tx, "setup", token)


def set_up(database: Database, token: str, operator: Operator | Source, admin: Admin, origin: str) -> sign_in.Session:
    """Make the operator, or bring an intake in that has one, with who runs it; their session.

    Locks the link by its key, and judges under the lock whether it is open: of two setups at once one is refused.
    """
    with links.noted_where_refused(database, token, origin):
        database.run(look_up, token)
        name, email = a_name(admin.name, "name"), an_email(admin.email, "email")
        if email is None:
            raise invalid("Enter an e-mail address to sign in with.", "email")
        sign_in.judge_password(admin.password, email, name)
        password_hash = sign_in.hashed(admin.password)
        sign_in_id = database.run(_set_up, token, operator, name, email, password_hash)
    return database.run(sign_in.begin_session, sign_in_id, password_hash, email, origin)


def _set_up(tx: Transaction, token: str, operator: Operator | Source, name: str, email: str, password_hash: str) -> int:
    found = links.look_up(tx, "setup", token, takes=True)
    links.use(tx, found)
    if accounts_service.is_set_up(tx):
        raise conflict("This installation is set up already; sign in.")
    who = Actor(name, email, None)
    data_import.load(tx, who, operator if isinstance(operator, Source) else _source(operator, email))
    if not accounts_service.is_set_up(tx):
        raise invalid("The intake has no accounts; it needs the operator at least.", "intake")
    top = accounts_service.operator(tx)
    sign_in_id = sign_in.first_admin(tx, email, name, top.id, password_hash)
    log_service.write(
        tx, who, None, [log_service.Entry("set up", email, top.id, None, {"operator": top.name, "role": "admin"})]
    )
    return sign_in_id


def _source(operator: Operator, email: str) -> Source:
    plain = unicodedata.normalize("NFKD", operator.name).encode("ascii", "ignore").decode().upper()
    made = re.sub("[^A-Z0-9]+", "-", plain).strip("-")[:24].rstrip("-")
    row = {
        "code": operator.code.strip() or made or "OPERATOR",
        "kind": "operator",
        "name": operator.name.strip(),
        "currency": operator.currency.strip().upper(),
        "time_zone": operator.time_zone,
        "admin_email": email,
        "billing_email": email,
    }
    return Source({"accounts": SheetTable("accounts", list(row), iter([(2, list(row.values()))]))})


@dataclass(frozen=True)
class Steps:
    """What has been done in an installation, of what is worth doing first."""

    products: bool
    purchases: bool
    clients: bool
    delegates: bool
    people: bool
    seats: bool
    mail: bool
    """Whether a mail server is named: without one mails wait."""


def steps(tx: Transaction, actor: Actor) -> Steps:
    """What the operator has done, of what is worth doing first."""
    accounts = accounts_service.known(tx)
    if accounts_service.top_row(accounts, actor) != 0:
        raise not_allowed("Only the operator can do this.")
    products = pools_service.products(tx)
    return Steps(
        bool(products),
        bool(pools_service.pools(tx, products)),
        len(accounts.tree) > 1,
        store.somebody_runs_a_client(tx.connection, int(accounts.ids[0])),
        store.has_people(tx.connection),
        store.has_assignments(tx.connection),
        tx.settings.smtp_url is not None,
    )


def bring_in(tx: Transaction, actor: Actor, source: Source) -> data_import.LoadResult:
    """Bring an intake in; the operator does."""
    return data_import.load(tx, actor, source)
