"""What stands on an account's statements about itself, and who gets them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from typing import Any

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.log import service as log_service
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.addresses import email, is_country, is_iban
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import invalid, not_allowed
from fair_ladle.app.receivables import store
from fair_ladle.app.receivables.rows import ContactRecord
from fair_ladle.app.statements import store as statements_store
from fair_ladle.core.statement_lines import TaxStatus

MOST_CONTACTS, MOST_DAYS = 20, 3660
LONGEST = {
    "exemption_reason": 200,
    "street": 200,
    "postcode": 32,
    "city": 100,
    "tax_number": 32,
    "buyer_reference": 100,
    "cost_centre": 64,
}
TERMS = ("tax", "exemption_reason", "payment_days")
"""What the seller decides, and not the buyer itself."""


@dataclass(frozen=True)
class Contact:
    """Who gets what of an account's statements, beside its billing email, which gets everything."""

    email: str
    gets_statements: bool
    gets_data: bool
    gets_reminders: bool


@dataclass(frozen=True)
class BillingDetails:
    """An account's address, numbers and terms as they stand on statements; None = not given."""

    street: str | None
    postcode: str | None
    city: str | None
    country: str | None
    tax_number: str | None
    iban: str | None
    buyer_reference: str | None
    cost_centre: str | None
    tax: str
    exemption_reason: str | None
    payment_days: int | None


@dataclass(frozen=True)
class Billing:
    """An account's billing email, details and further contacts; ``sets_terms``: the actor runs an account above it."""

    billing_email: str | None
    details: BillingDetails
    contacts: list[Contact]
    sets_terms: bool


def contact_of(row: ContactRecord) -> Contact:
    """A contact as it is kept."""
    return Contact(row.email, bool(row.gets_statements), bool(row.gets_data), bool(row.gets_reminders))


def billing(tx: Transaction, actor: Actor, account: str) -> Billing:
    """An account's billing details and contacts, for whoever runs it or an account above it."""
    accounts = accounts_service.known(tx)
    row = accounts_service.row_in_scope(accounts, actor, account)
    account_id = int(accounts.ids[row])
    found = statements_store.billing_details(tx.connection, [account_id])[account_id]
    return Billing(
        found.billing_email,
        BillingDetails(**{name: getattr(found, name) for name in BillingDetails.__dataclass_fields__}),
        [contact_of(each) for each in store.contacts(tx.connection, [account_id]).get(account_id, [])],
        row == 0 or row != accounts_service.top_row(accounts, actor),
    )


def change(tx: Transaction, actor: Actor, account: str, details: BillingDetails, contacts: Sequence[Contact]) -> None:
    """Give an account other details and contacts. Tax and terms of payment only whoever runs an account above changes.

    Locks the account's desk, then writes its row; nothing is judged that others change.
    """
    before = billing(tx, actor, account)
    accounts = accounts_service.known(tx)
    account_id = int(accounts.ids[accounts.tree.row(account)])
    details, checked = _checked(details), _checked_contacts(contacts)
    values = {name: value for name, value in asdict(details).items() if value != getattr(before.details, name)}
    if not before.sets_terms and any(name in values for name in TERMS):
        raise not_allowed("Tax and terms of payment are set by the account that sells to this one.")
    store.lock_desk(tx.connection, account_id)
    entries = []
    if values:
        accounts_service.change(tx, account_id, values)
        was = {name: getattr(before.details, name) for name in values}
        entries.append(log_service.Entry("account changed", account, account_id, was, values))
    if checked != before.contacts:
        store.replace_contacts(
            tx.connection, account_id, [{"account_id": account_id, **vars(each)} for each in checked]
        )
        said = [", ".join(each.email for each in some) or "none" for some in (before.contacts, checked)]
        told = ({"contacts": said[0]}, {"contacts": said[1]})
        entries.append(log_service.Entry("billing contacts", account, account_id, *told))
    log_service.write(tx, actor, account_id, entries)


def _checked(details: BillingDetails) -> BillingDetails:
    plain: dict[str, Any] = {
        name: value.strip() or None if isinstance(value, str) else value for name, value in asdict(details).items()
    }
    for name, most in LONGEST.items():
        value = plain[name]
        if value is not None and (len(value) > most or not value.isprintable()):
            raise invalid(f"At most {most} characters, and no line breaks.", name)
    if plain["country"] is not None and not is_country(plain["country"]):
        raise invalid("A country's code after ISO 3166, like PT.", "country")
    if plain["iban"] is not None:
        plain["iban"] = plain["iban"].replace(" ", "").upper()
        if not is_iban(plain["iban"]):
            raise invalid("An IBAN whose check digits are right, like PT50 0002 0123 1234 5678 9015 4.", "iban")
    if plain["tax"] not in set(TaxStatus):
        raise invalid(f"One of {', '.join(TaxStatus)}.", "tax")
    if plain["payment_days"] is not None and not 0 <= plain["payment_days"] <= MOST_DAYS:
        raise invalid(f"0 to {MOST_DAYS} days.", "payment_days")
    if plain["tax"] == TaxStatus.EXEMPT and plain["exemption_reason"] is None:
        raise invalid("Say why it is exempt: that stands on its statements.", "exemption_reason")
    return replace(details, **plain)


def _checked_contacts(contacts: Sequence[Contact]) -> list[Contact]:
    if len(contacts) > MOST_CONTACTS:
        raise invalid(f"At most {MOST_CONTACTS} contacts.", "contacts")
    checked: dict[str, Contact] = {}
    for place, each in enumerate(contacts):
        address = email(each.email, f"contacts.{place}.email")
        if address is None:
            raise invalid("Every contact needs an email address.", f"contacts.{place}.email")
        if address in checked:
            raise invalid(f"{address} is there twice.", f"contacts.{place}.email")
        if not (each.gets_statements or each.gets_data or each.gets_reminders):
            raise invalid(f"Say what {address} gets.", f"contacts.{place}.email")
        checked[address] = replace(each, email=address)
    return [checked[address] for address in sorted(checked)]
