"""Closed statements as e-invoices."""

from __future__ import annotations

from decimal import Decimal

from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import conflict, not_found
from fair_ladle.app.statements.documents import with_particulars
from fair_ladle.app.statements.ledger import Statement
from fair_ladle.app.statements.particulars import Party
from fair_ladle.app.statements.rate_cards import decimals_of
from fair_ladle.app.statements.usecases import statements
from fair_ladle.app.statements.views import others
from fair_ladle.connectors.ubl_out import EAllowance, EInvoice, ELine, EParty, ETax, faults, invoice_xml
from fair_ladle.core.quantities import half_up
from fair_ladle.core.statement_lines import Kind, TaxStatus

MOST_DECIMALS = 2
GIGABYTE, ONE = "E34", "C62"
NOT_TAXED = "Not subject to tax"
REVERSE_CHARGE = "Reverse charge"
ON_RECEIPT = "Payable on receipt."


def e_invoice(tx: Transaction, actor: Actor, buyer: str, month: str, currency: str) -> tuple[str, bytes]:
    """The name and content of a buyer's closed statement of a month as an e-invoice, for whoever runs the buyer or an
    account above it; refused with all that is missing where it breaks a rule."""
    _, found = statements(tx, actor, buyer, month)
    statement = next((each for each in found if each.currency == currency), None)
    if statement is None:
        raise not_found(f"statement in {currency} for", buyer)
    if statement.number is None:
        raise conflict("An open month has no invoice yet; it has one once the month is closed.")
    invoice = as_invoice(tx, statement)
    broken = faults(invoice)
    if broken:
        raise conflict(" ".join(f"{says} ({rule})" for rule, says in broken), rules=[rule for rule, _ in broken])
    kind = "credit-note" if invoice.is_credit_note else "invoice"
    return f"{kind}-{statement.number}.xml", invoice_xml(invoice)


def as_invoice(tx: Transaction, statement: Statement) -> EInvoice:
    """A closed statement as the model has it; refused in a currency that the model has no place for."""
    if decimals_of(statement.currency) > MOST_DECIMALS:
        raise conflict(f"{statement.currency} has three decimals; an e-invoice knows two.")
    about = with_particulars(tx, statement)
    assert about.issued is not None and statement.number is not None
    exempt = {
        "E": about.exemption_reason if statement.tax is TaxStatus.EXEMPT else NOT_TAXED,
        "AE": REVERSE_CHARGE,
    }
    lines, allowances = _lines(statement), _allowances(statement)
    kinds = {line.tax for line in lines} | {each.tax for each in allowances}
    taxed = {tax: Decimal("0.00") for tax in kinds}
    for tax in statement.composed.taxes:
        if statement.tax is TaxStatus.NORMAL:
            taxed[_tax(statement, Decimal(tax.name))] = tax.amount
    return EInvoice(
        statement.number,
        about.issued,
        about.due,
        statement.currency,
        statement.first,
        statement.last,
        _party(about.seller, about.seller_email),
        _party(about.buyer, about.buyer_email),
        about.buyer_reference,
        about.iban,
        lines,
        allowances,
        sorted(taxed.items(), key=lambda each: (each[0].category, each[0].percent)),
        {category: reason or "" for category, reason in exempt.items()},
        statement.total,
        None if about.due else ON_RECEIPT,
    )


def _party(party: Party, email: str | None) -> EParty:
    return EParty(party.name, party.street, party.city, party.postcode, party.country, party.tax_number, email)


def _tax(statement: Statement, percent: Decimal | None) -> ETax:
    if statement.tax is TaxStatus.REVERSE_CHARGE:
        return ETax("AE", Decimal(0))
    if statement.tax is TaxStatus.EXEMPT or percent is None:
        return ETax("E", Decimal(0))
    return ETax("S" if percent else "Z", percent)


def _lines(statement: Statement) -> list[ELine]:
    """Usage lines, charges and adjustments, as they stand in the statement."""
    usage = {each.product.code: each for each in statement.lines}
    charges = {each.reference: each for each in statement.charges}
    says = {(each.kind, each.reference): each.says for each in others(statement, _names(statement))}
    found = []
    for owed in statement.composed.owed:
        tax = _tax(statement, owed.percent)
        if owed.kind is Kind.USAGE:
            line = usage[owed.reference]
            quantity = half_up(line.charge.quantity, 2)
            note = f"{quantity:f} {line.product.unit}, {line.rate.basis}, {line.rate.aggregate}"
            unit = GIGABYTE if line.product.is_storage else ONE
            found.append(ELine(line.product.name, note, line.charge.quantity, unit, owed.amount, tax))
        elif owed.kind is Kind.CHARGE:
            charge = charges[owed.reference]
            found.append(ELine(charge.description or charge.reference, None, charge.quantity, ONE, owed.amount, tax))
        else:
            name = f"Adjustment: {says.get((owed.kind, owed.reference), owed.reference)}"
            found.append(ELine(name, None, Decimal(1), ONE, owed.amount, tax))
    return found


def _allowances(statement: Statement) -> list[EAllowance]:
    """Discounts and credits, by what they are spread over."""
    says = {(each.kind, each.reference): each.says for each in others(statement, _names(statement))}
    found = []
    for taken in (*statement.composed.discounts, *statement.composed.credits):
        sums: dict[ETax, Decimal] = {}
        for owed, part in zip(statement.composed.owed, taken.parts, strict=True):
            if part:
                tax = _tax(statement, owed.percent)
                sums[tax] = sums.get(tax, Decimal(0)) + part
        reason = says.get((taken.kind, taken.reference)) or taken.reference
        found += [EAllowance(reason, amount, tax) for tax, amount in sums.items()]
    return found


def _names(statement: Statement) -> dict[str, str]:
    return {line.product.code: line.product.name for line in statement.lines}
