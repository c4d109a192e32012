"""E-invoices: the semantic model of EN 16931-1 in the syntax of UBL 2.1 (an Invoice, or a CreditNote).

Names follow the model's business terms (BT) and groups (BG). What a document must fulfil is checked here before it is
written, by the model's own rules (BR); https://standards.cencenelec.eu, EN 16931-1:2017 and CEN/TS 16931-3-2.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date
from decimal import ROUND_HALF_UP, Decimal
from xml.etree import ElementTree

CBC = "urn:oasis:names:specification:ubl:schema:xsd:CommonBasicComponents-2"
CAC = "urn:oasis:names:specification:ubl:schema:xsd:CommonAggregateComponents-2"
DOCUMENT = "urn:oasis:names:specification:ubl:schema:xsd:{}-2"
SPECIFICATION = "urn:cen.eu:en16931:2017"
INVOICE, CREDIT_NOTE, TRANSFER, SEPA = "380", "381", "30", "58"
CENT = Decimal("0.01")


@dataclass(frozen=True)
class EParty:
    """A seller (BG-4) or buyer (BG-7). A ``tax_number`` that begins with two letters is a VAT identifier (BT-31,
    BT-48), another one a registration of another kind."""

    name: str
    street: str | None
    city: str | None
    postcode: str | None
    country: str | None
    tax_number: str | None
    email: str | None = None

    @property
    def vat(self) -> str | None:
        """Its VAT identifier."""
        number = (self.tax_number or "").replace(" ", "")
        return number if re.match("[A-Z]{2}", number) else None


@dataclass(frozen=True)
class ETax:
    """How something is taxed (BT-151, BT-152): S normal, Z at zero, E exempt, AE by reverse charge."""

    category: str
    percent: Decimal


@dataclass(frozen=True)
class ELine:
    """A line (BG-25): ``amount`` for ``quantity`` of a unit after UN/ECE Recommendation 20."""

    name: str
    note: str | None
    quantity: Decimal
    unit: str
    amount: Decimal
    tax: ETax


@dataclass(frozen=True)
class EAllowance:
    """What is taken off the whole (BG-20), above 0, or put on it (BG-21), below 0."""

    reason: str
    amount: Decimal
    tax: ETax


@dataclass(frozen=True)
class EInvoice:
    """An invoice, amounts as they are owed; below 0 in total it is a credit note. ``reasons``: why something is not
    taxed, by category; ``tax``: what is owed of each rate (BG-23)."""

    number: str
    issued: date
    due: date | None
    currency: str
    first: date
    last: date
    seller: EParty
    buyer: EParty
    reference: str | None
    iban: str | None
    lines: Sequence[ELine]
    allowances: Sequence[EAllowance]
    tax: Sequence[tuple[ETax, Decimal]]
    reasons: dict[str, str]
    total: Decimal
    terms: str | None = None
    """Of payment (BT-20), where no day is due."""

    @property
    def is_credit_note(self) -> bool:
        """Whether the buyer gets money."""
        return self.total < 0

    def taxable(self) -> dict[ETax, Decimal]:
        """What falls under each rate (BT-116)."""
        found: dict[ETax, Decimal] = defaultdict(Decimal)
        for line in self.lines:
            found[line.tax] += line.amount
        for each in self.allowances:
            found[each.tax] -= each.amount
        return dict(found)


def faults(invoice: EInvoice) -> list[tuple[str, str]]:
    """Which rules of the model an invoice breaks, each with what would be right."""
    return [*_of_parties(invoice), *_of_lines(invoice), *_of_sums(invoice), *_of_tax(invoice)]


def _of_parties(invoice: EInvoice) -> Iterator[tuple[str, str]]:
    if not invoice.number.strip():
        yield "BR-02", "An invoice has a number."
    if not re.fullmatch("[A-Z]{3}", invoice.currency):
        yield "BR-05", f"{invoice.currency} is no currency."
    for party, called, name, country in (
        (invoice.seller, "seller", "BR-06", "BR-09"),
        (invoice.buyer, "buyer", "BR-07", "BR-11"),
    ):
        if not party.name.strip():
            yield name, f"The {called} has a name."
        if party.country is None:
            yield country, f"Give the country of {party.name or called}."
        if party.vat is not None and party.country is None and not re.match("[A-Z]{2}", party.vat):
            yield "BR-CO-09", f"The tax number of {party.name} begins with its country."
    if invoice.seller.tax_number is None:
        yield "BR-CO-26", f"Give the tax number of {invoice.seller.name}."
    if invoice.total > 0 and invoice.due is None and not invoice.terms:
        yield "BR-CO-25", "Give the days to pay, so that the invoice is due on a day."


def _of_lines(invoice: EInvoice) -> Iterator[tuple[str, str]]:
    if not invoice.lines:
        yield "BR-16", "An invoice has a line at least."
    for line in invoice.lines:
        if not line.name.strip():
            yield "BR-25", "Every line names what was sold."
        if not line.unit.strip():
            yield "BR-23", f"{line.name} has a unit."
    for each in invoice.allowances:
        if not each.reason.strip():
            yield "BR-33", "What is taken off says why."


def _of_sums(invoice: EInvoice) -> Iterator[tuple[str, str]]:
    amounts = [
        *((line.name, line.amount) for line in invoice.lines),
        *((each.reason, each.amount) for each in invoice.allowances),
        *(("tax", amount) for _, amount in invoice.tax),
        ("the total", invoice.total),
    ]
    for what, amount in amounts:
        if amount != amount.quantize(CENT, ROUND_HALF_UP):
            yield "BR-DEC", f"{what} has more than two decimals, which the model does not know."
            return
    taxed = sum((each for _, each in invoice.tax), Decimal(0))
    if sum(invoice.taxable().values(), Decimal(0)) + taxed != invoice.total:
        yield "BR-CO-15", "The lines less what is taken off, with tax, come to the total."


def _of_tax(invoice: EInvoice) -> Iterator[tuple[str, str]]:
    taxable, told = invoice.taxable(), dict(invoice.tax)
    if set(taxable) != set(told):
        yield "BR-CO-18", "Every rate of the lines has its sum."
    for tax, amount in told.items():
        if amount != (taxable.get(tax, Decimal(0)) * tax.percent / 100).quantize(CENT, ROUND_HALF_UP):
            yield "BR-CO-17", f"Tax at {tax.percent:f} % is that part of what falls under it."
        if tax.category in ("E", "AE") and not invoice.reasons.get(tax.category, "").strip():
            yield f"BR-{tax.category}-10", "Say why it is not taxed."
        if tax.category == "S" and tax.percent <= 0:
            yield "BR-S-05", "What is taxed normally has a percentage above 0."
        if tax.category in ("Z", "E", "AE") and tax.percent != 0:
            yield f"BR-{tax.category}-05", "What is not taxed has 0 %."
    if any(tax.category == "AE" for tax in told) and (invoice.seller.vat is None or invoice.buyer.tax_number is None):
        yield "BR-AE-02", "Reverse charge needs the VAT number of the seller and the tax number of the buyer."


def invoice_xml(invoice: EInvoice) -> bytes:
    """The document, UTF-8; of an invoice that breaks no rule."""
    name = "CreditNote" if invoice.is_credit_note else "Invoice"
    sign = -1 if invoice.is_credit_note else 1
    for prefix, space in (("cbc", CBC), ("cac", CAC), ("", DOCUMENT.format(name))):
        ElementTree.register_namespace(prefix, space)
    root = _Element(ElementTree.Element(f"{{{DOCUMENT.format(name)}}}{name}"), invoice.currency)
    root.text("CustomizationID", SPECIFICATION)
    root.text("ID", invoice.number)
    root.text("IssueDate", invoice.issued.isoformat())
    if invoice.due is not None and not invoice.is_credit_note and invoice.total > 0:
        root.text("DueDate", invoice.due.isoformat())
    root.text(f"{name}TypeCode", CREDIT_NOTE if invoice.is_credit_note else INVOICE)
    root.text("DocumentCurrencyCode", invoice.currency)
    root.text("BuyerReference", invoice.reference)
    period = root.group("InvoicePeriod")
    period.text("StartDate", invoice.first.isoformat())
    period.text("EndDate", invoice.last.isoformat())
    if invoice.reference:
        root.group("OrderReference").text("ID", invoice.reference)
    _party(root.group("AccountingSupplierParty").group("Party"), invoice.seller, is_seller=True)
    _party(root.group("AccountingCustomerParty").group("Party"), invoice.buyer, is_seller=False)
    if invoice.iban is not None and not invoice.is_credit_note:
        means = root.group("PaymentMeans")
        means.text("PaymentMeansCode", SEPA if invoice.currency == "EUR" else TRANSFER)
        means.text("PaymentID", invoice.number)
        means.group("PayeeFinancialAccount").text("ID", invoice.iban)
    if invoice.terms and invoice.total > 0:
        root.group("PaymentTerms").text("Note", invoice.terms)
    _allowances(root, invoice, sign)
    _tax(root, invoice, sign)
    _sums(root, invoice, sign)
    for place, line in enumerate(invoice.lines, start=1):
        _line(root.group(f"{name}Line"), place, line, sign, "CreditedQuantity" if sign < 0 else "InvoicedQuantity")
    return bytes(ElementTree.tostring(root.element, "utf-8", xml_declaration=True))


class _Element:
    """An element that is written from the top down."""

    def __init__(self, element: ElementTree.Element, currency: str):
        self.element, self._currency = element, currency

    def group(self, name: str) -> _Element:
        """An element with others in it."""
        return _Element(ElementTree.SubElement(self.element, f"{{{CAC}}}{name}"), self._currency)

    def text(self, name: str, text: str | None, **attributes: str) -> None:
        """An element with text in it, where there is any."""
        if text:
            ElementTree.SubElement(self.element, f"{{{CBC}}}{name}", attributes).text = NOT_IN_XML.sub("", text)

    def amount(self, name: str, amount: Decimal) -> None:
        """An amount of the document's currency."""
        self.text(name, f"{amount + 0:f}", currencyID=self._currency)


NOT_IN_XML = re.compile("[^\t\n\r\u0020-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def _party(element: _Element, party: EParty, is_seller: bool) -> None:
    if party.email:
        element.text("EndpointID", party.email, schemeID="EM")
    address = element.group("PostalAddress")
    address.text("StreetName", party.street)
    address.text("CityName", party.city)
    address.text("PostalZone", party.postcode)
    address.group("Country").text("IdentificationCode", party.country)
    registered = None
    if party.vat is not None:
        scheme = element.group("PartyTaxScheme")
        scheme.text("CompanyID", party.vat)
        scheme.group("TaxScheme").text("ID", "VAT")
    elif is_seller and party.tax_number:
        scheme = element.group("PartyTaxScheme")
        scheme.text("CompanyID", party.tax_number)
        scheme.group("TaxScheme").text("ID", "TAX")
    else:
        registered = party.tax_number
    entity = element.group("PartyLegalEntity")
    entity.text("RegistrationName", party.name)
    entity.text("CompanyID", registered)


def _category(element: _Element, tax: ETax, reason: str | None = None) -> None:
    element.text("ID", tax.category)
    element.text("Percent", f"{tax.percent:f}")
    element.text("TaxExemptionReason", reason)
    element.group("TaxScheme").text("ID", "VAT")


def _allowances(root: _Element, invoice: EInvoice, sign: int) -> None:
    for each in invoice.allowances:
        amount = each.amount * sign
        element = root.group("AllowanceCharge")
        element.text("ChargeIndicator", "true" if amount < 0 else "false")
        element.text("AllowanceChargeReason", each.reason)
        element.amount("Amount", abs(amount))
        _category(element.group("TaxCategory"), each.tax)


def _tax(root: _Element, invoice: EInvoice, sign: int) -> None:
    taxable = invoice.taxable()
    total = root.group("TaxTotal")
    total.amount("TaxAmount", sum((each for _, each in invoice.tax), Decimal("0.00")) * sign)
    for tax, amount in invoice.tax:
        part = total.group("TaxSubtotal")
        part.amount("TaxableAmount", taxable[tax] * sign)
        part.amount("TaxAmount", amount * sign)
        _category(part.group("TaxCategory"), tax, invoice.reasons.get(tax.category))


def _sums(root: _Element, invoice: EInvoice, sign: int) -> None:
    lines = sum((line.amount for line in invoice.lines), Decimal("0.00")) * sign
    given = [each.amount * sign for each in invoice.allowances]
    off = sum((each for each in given if each > 0), Decimal(0))
    on = -sum((each for each in given if each < 0), Decimal(0))
    tax = sum((each for _, each in invoice.tax), Decimal("0.00")) * sign
    sums = root.group("LegalMonetaryTotal")
    sums.amount("LineExtensionAmount", lines)
    sums.amount("TaxExclusiveAmount", lines - off + on)
    sums.amount("TaxInclusiveAmount", lines - off + on + tax)
    if off:
        sums.amount("AllowanceTotalAmount", off)
    if on:
        sums.amount("ChargeTotalAmount", on)
    sums.amount("PayableAmount", invoice.total * sign)


def _line(element: _Element, place: int, line: ELine, sign: int, quantity_name: str) -> None:
    """The net price is never below 0 (BR-27): the quantity carries the sign. It is that of the whole quantity, so that
    price times quantity is the amount exactly, whatever the tiers were."""
    amount = line.amount * sign
    whole = line.quantity > 0 and amount >= 0
    quantity = line.quantity if whole else Decimal(-1 if amount < 0 else 1)
    unit = line.unit if whole else "C62"
    element.text("ID", str(place))
    element.text("Note", line.note)
    element.text(quantity_name, f"{quantity:f}", unitCode=unit)
    element.amount("LineExtensionAmount", amount)
    item = element.group("Item")
    item.text("Name", line.name)
    _category(item.group("ClassifiedTaxCategory"), line.tax)
    price = element.group("Price")
    price.amount("PriceAmount", abs(amount))
    if whole and quantity != 1:
        price.text("BaseQuantity", f"{quantity:f}", unitCode=unit)
