"""What rows of receivables have, as the database gives them."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal


@dataclass(frozen=True)
class ReceivableRecord:
    """A closed statement with its buyer, and what was paid of it."""

    id: int
    seller_id: int
    buyer_id: int
    first_day: date
    currency: str
    year: int
    number: int
    net: Decimal
    total: Decimal
    due_day: date | None
    buyer: str
    buyer_name: str
    billing_email: str | None
    paid: Decimal
    settled: bool


@dataclass(frozen=True)
class ReceivableSums:
    """How many of a seller's statements in a currency are unsent, open, overdue and asked about, and the amounts."""

    currency: str
    unsent: Decimal
    open: Decimal
    overdue: Decimal
    asked: Decimal
    open_amount: Decimal
    overdue_amount: Decimal


@dataclass(frozen=True)
class ContactRecord:
    """A row of ``billing_contacts``."""

    id: int
    account_id: int
    email: str
    gets_statements: bool
    gets_data: bool
    gets_reminders: bool


@dataclass(frozen=True)
class MailRecord:
    """A row of ``statement_mails``, with how its sending stands."""

    id: int
    statement_id: int
    outbox_id: int
    kind: str
    at: datetime
    by: str
    to_address: str | None
    sent_at: datetime | None
    due_at: datetime | None
    taken_at: datetime | None
    trouble: str | None


@dataclass(frozen=True)
class PaymentRecord:
    """A row of ``payments``."""

    id: int
    seller_id: int
    statement_id: int
    amount: Decimal
    day: date
    note: str
    bank_line: str | None
    at: datetime
    by: str
    withdrawn_at: datetime | None
    withdrawn_by: str | None


@dataclass(frozen=True)
class WrongSum:
    """A statement whose payments do not add up to what is kept."""

    seller: str
    year: int
    number: int
    paid: Decimal
    sum: Decimal


@dataclass(frozen=True)
class QuestionRecord:
    """A row of ``statement_questions``."""

    id: int
    statement_id: int
    kind: str
    reference: str
    question: str
    asked_at: datetime
    asked_by: str
    asker_id: int | None
    answer: str | None
    answered_at: datetime | None
    answered_by: str | None
    correction: str | None
