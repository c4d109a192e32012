"""What becomes of closed statements, over HTTP. Amounts are decimals, as text."""

from __future__ import annotations

from dataclasses import asdict
from datetime import date, datetime
from decimal import Decimal
from typing import Annotated, Any, Literal

from fastapi import Body, Query, Response
from pydantic import BaseModel, Field

from fair_ladle.app.plumbing.exports import Format, sheet
from fair_ladle.app.plumbing.foreign import table_of
from fair_ladle.app.plumbing.http import Db, Keyed, Who
from fair_ladle.app.plumbing.routing import Router, reads_only
from fair_ladle.app.receivables import billing_details, listing, payments, questions, sending
from fair_ladle.connectors.sheets_out import Totals

UPLOAD = "/api/bank-files"
routes = Router("/api/receivables", "statements", sees="statements.see", changes="statements.settle")
bank_routes = Router(UPLOAD, "statements", sees="statements.settle", changes="statements.settle")
billing_routes = Router("/api/billing", "statements", sees="accounts.see", changes="accounts.change")
own_routes = Router("/api/statement-lives", "statements", sees="statements.see", changes="statements.see")
State = Literal["unsent", "open", "overdue", "paid", "credit", "asked"]
Money = Annotated[Decimal, Field(max_digits=20, decimal_places=5)]


class MailedBody(BaseModel):
    """A mail about a statement; ``trouble`` why the last try failed."""

    kind: Literal["statement", "reminder"]
    to_address: str
    at: datetime
    state: Literal["waiting", "sent", "failed"]
    trouble: str | None


class ReceivableRow(BaseModel):
    """A closed statement and how far it is; ``open`` is what is still owed, below 0 to the buyer."""

    buyer: str
    buyer_name: str
    month: str
    number: str
    currency: str
    total: str
    paid: str
    open: str
    due: date | None
    state: Literal["open", "overdue", "paid", "credit", "nothing"]
    mailed: MailedBody | None
    reminded: datetime | None
    asked: int


class ReceivableSum(BaseModel):
    """A currency's statements: how many are unsent, open, overdue, or asked about, and what is open and overdue."""

    currency: str
    unsent: int
    open: int
    overdue: int
    asked: int
    open_amount: str
    overdue_amount: str


class ReceivableWindow(BaseModel):
    """Some of a seller's closed statements, of so many that were asked for."""

    rows: list[ReceivableRow]
    total: int


class NumbersBody(BaseModel):
    """Which statements: of these numbers; or all (of a month)."""

    numbers: list[str] | None = Field(None, max_length=500)
    month: str | None = Field(None, max_length=7)


class SentBody(BaseModel):
    """How many statements go out in how many mails; the buyers that have nobody to send to."""

    statements: int
    mails: int
    without_contact: list[str]


class PaymentToRecord(BaseModel):
    """A payment; ``bank_line`` names the line of a bank's file it came with."""

    number: str = Field(max_length=20)
    amount: Money
    day: date
    note: str = Field("", max_length=200)
    bank_line: str | None = Field(None, min_length=64, max_length=64)


class PaymentsBody(BaseModel):
    """Payments to record, all of them or none."""

    payments: list[PaymentToRecord] = Field(min_length=1, max_length=2000)


class RecordedBody(BaseModel):
    """How many payments were recorded."""

    recorded: int


class CandidateBody(BaseModel):
    """A statement that a line may pay."""

    number: str
    buyer: str
    currency: str
    open: str


class BankLineBody(BaseModel):
    """A line of a bank's file, and what it fits."""

    row: int
    line: str
    day: date | None
    amount: str | None
    text: str
    state: Literal["fits", "differs", "several", "maybe", "paid", "known", "other", "fault"]
    says: str
    candidates: list[CandidateBody]


class BankFileBody(BaseModel):
    """A bank's file against what is open; no lines where it is not known which column is what."""

    header: list[str]
    columns: dict[str, int]
    lines: list[BankLineBody]


class PaymentRow(BaseModel):
    """A payment of a statement."""

    id: int
    amount: str
    day: date
    note: str
    by: str | None
    withdrawn: bool


class QuestionRow(BaseModel):
    """A question about a line, and its answer; ``correction``: the reference of the credit it led to."""

    id: int
    kind: str
    reference: str
    question: str
    asked_at: datetime
    asked_by: str
    answer: str | None
    answered_at: datetime | None
    answered_by: str | None
    correction: str | None


class LifeBody(BaseModel):
    """What became of a closed statement; mails, and who took payments, only for who ``runs_seller``."""

    receivable: ReceivableRow
    seller: str
    seller_name: str
    runs_seller: bool
    mails: list[MailedBody]
    payments: list[PaymentRow]
    questions: list[QuestionRow]


class QuestionBody(BaseModel):
    """A question about a line of a statement."""

    number: str = Field(max_length=20)
    kind: str = Field(max_length=16)
    reference: str = Field(max_length=150)
    question: str = Field(max_length=2000)


class QuestionAsked(BaseModel):
    """The number of a question."""

    id: int


class AnswerBody(BaseModel):
    """An answer, and what it takes off before tax."""

    answer: str = Field(max_length=2000)
    credit: Money | None = None


class AnsweredBody(BaseModel):
    """The reference of the credit that an answer led to."""

    correction: str | None


class ContactBody(BaseModel):
    """Who gets what of an account's statements."""

    email: str = Field(max_length=254)
    gets_statements: bool
    gets_data: bool
    gets_reminders: bool


class BillingDetailsBody(BaseModel):
    """An account's address, numbers and terms as they stand on statements; null = not given."""

    street: str | None = Field(None, max_length=200)
    postcode: str | None = Field(None, max_length=32)
    city: str | None = Field(None, max_length=100)
    country: str | None = Field(None, max_length=2)
    tax_number: str | None = Field(None, max_length=32)
    iban: str | None = Field(None, max_length=50)
    buyer_reference: str | None = Field(None, max_length=100)
    cost_centre: str | None = Field(None, max_length=64)
    tax: Literal["normal", "reverse_charge", "exempt"] = "normal"
    exemption_reason: str | None = Field(None, max_length=200)
    payment_days: int | None = Field(None, ge=0, le=3660)


class BillingBody(BaseModel):
    """An account's billing details, and who gets its statements besides its billing email."""

    details: BillingDetailsBody
    contacts: list[ContactBody] = Field(max_length=50)


class BillingFound(BillingBody):
    """The same with its billing email, which gets everything; ``sets_terms``: the actor may change tax and terms."""

    billing_email: str | None
    sets_terms: bool


def _row(found: listing.Receivable) -> ReceivableRow:
    return ReceivableRow(
        buyer=found.buyer,
        buyer_name=found.buyer_name,
        month=f"{found.first:%Y-%m}",
        number=found.number,
        currency=found.currency,
        total=f"{found.total:f}",
        paid=f"{found.paid:f}",
        open=f"{found.open:f}",
        due=found.due,
        state=found.state,  # type: ignore[arg-type]
        mailed=None if found.mailed is None else _mailed(found.mailed),
        reminded=found.reminded,
        asked=found.asked,
    )


def _mailed(found: listing.Mailed) -> MailedBody:
    return MailedBody.model_validate(asdict(found))


@routes.get("/{seller}", response_model=ReceivableWindow)
def receivables(
    db: Db,
    who: Who,
    seller: str,
    state: State | None = None,
    month: str | None = None,
    find: str = Query("", max_length=200),
    offset: int = Query(0, ge=0, le=1_000_000),
    limit: int = Query(100, ge=1, le=200),
) -> Any:
    """A window of a seller's closed statements, the newest first."""
    found = db.snapshot(listing.receivables, who, seller, state, month, find, offset, limit)
    return ReceivableWindow(rows=[_row(each) for each in found.rows], total=found.total)


@routes.get("/{seller}/sums", response_model=list[ReceivableSum])
def receivable_sums(db: Db, who: Who, seller: str) -> Any:
    """What a seller's closed statements come to, by currency."""
    return [
        ReceivableSum(
            currency=each.currency,
            unsent=each.unsent,
            open=each.open,
            overdue=each.overdue,
            asked=each.asked,
            open_amount=f"{each.open_amount:f}",
            overdue_amount=f"{each.overdue_amount:f}",
        )
        for each in db.snapshot(listing.sums, who, seller)
    ]


@routes.get("/{seller}/export", response_class=Response)
def export_receivables(
    db: Db,
    who: Who,
    form: Format,
    seller: str,
    state: State | None = None,
    month: str | None = None,
    find: str = Query("", max_length=200),
) -> Response:
    """All of a seller's closed statements, or those asked for, as a file."""
    columns = [
        "number",
        "buyer",
        "name",
        "month",
        "currency",
        "total",
        "paid",
        "open",
        "due",
        "state",
        "sent_to",
        "sent_at",
    ]
    rows = (
        [
            *(each.number, each.buyer, each.buyer_name, f"{each.first:%Y-%m}", each.currency, each.total, each.paid),
            *(each.open, each.due, each.state),
            *((each.mailed.to_address, each.mailed.at) if each.mailed else (None, None)),
        ]
        for each in db.stream(listing.every, who, seller, state, month, find)
    )
    return sheet(f"payments-{seller}", form, columns, rows, Totals(("total", "paid", "open"), "currency"))


@routes.post("/{seller}/send", response_model=SentBody)
def send(db: Keyed, who: Who, seller: str, body: NumbersBody) -> Any:
    """Send statements to their buyers' contacts: those of these numbers, again too; or all (of a month) never sent."""
    return SentBody(**asdict(db.run(sending.send, who, seller, body.numbers, body.month)))


@routes.post("/{seller}/remind", response_model=SentBody)
def remind(db: Keyed, who: Who, seller: str, body: NumbersBody) -> Any:
    """Remind buyers of overdue statements: of these, or of all that nobody was reminded of within a week."""
    return SentBody(**asdict(db.run(sending.remind, who, seller, body.numbers)))


@routes.post("/{seller}/payments", response_model=RecordedBody)
def record(db: Keyed, who: Who, seller: str, body: PaymentsBody) -> Any:
    """Record payments, all of them or none."""
    paid = [payments.Paid(each.number, each.amount, each.day, each.note, each.bank_line) for each in body.payments]
    return RecordedBody(recorded=db.run(payments.record, who, seller, paid))


@routes.post("/{seller}/{number}/payments/{payment}/withdraw", status_code=204, response_class=Response)
def withdraw(db: Keyed, who: Who, seller: str, number: str, payment: int) -> Response:
    """Withdraw a payment that was recorded wrongly."""
    db.run(payments.withdraw, who, seller, number, payment)
    return Response(status_code=204)


@routes.post("/{seller}/questions/{question}/answer", response_model=AnsweredBody)
def answer(db: Keyed, who: Who, seller: str, question: int, body: AnswerBody) -> Any:
    """Answer a question about a statement, and credit something where that is the answer."""
    return AnsweredBody(correction=db.run(questions.answer, who, seller, question, body.answer, body.credit))


@bank_routes.post("", response_model=BankFileBody)
@reads_only
def bank_file(
    db: Db,
    who: Who,
    content: Annotated[bytes, Body(media_type="application/octet-stream")],
    seller: str = Query(max_length=64),
    name: str = Query(min_length=1, max_length=200),
    day: int | None = Query(None, ge=0, le=500),
    amount: int | None = Query(None, ge=0, le=500),
    text: int | None = Query(None, ge=0, le=500),
    currency: int | None = Query(None, ge=0, le=500),
) -> Any:
    """Hold a bank's file (CSV or XLSX) against what is open; records nothing."""
    chosen = {"day": day, "amount": amount, "text": text, "currency": currency}
    columns = {what: place for what, place in chosen.items() if place is not None}
    found = db.snapshot(payments.match, who, seller, table_of(name, content), columns)
    return BankFileBody(
        header=found.header,
        columns=found.columns,
        lines=[
            BankLineBody(
                row=each.row,
                line=each.line,
                day=each.day,
                amount=None if each.amount is None else f"{each.amount:f}",
                text=each.text,
                state=each.state,  # type: ignore[arg-type]
                says=each.says,
                candidates=[
                    CandidateBody(number=one.number, buyer=one.buyer, currency=one.currency, open=f"{one.open:f}")
                    for one in each.candidates
                ],
            )
            for each in found.lines
        ],
    )


@own_routes.get("/{buyer}/{month}", response_model=list[LifeBody])
def lives(db: Db, who: Who, buyer: str, month: str) -> Any:
    """What became of a buyer's closed statements of a month."""
    return [
        LifeBody(
            receivable=_row(each.receivable),
            seller=each.seller,
            seller_name=each.seller_name,
            runs_seller=each.runs_seller,
            mails=[_mailed(mail) for mail in each.mails],
            payments=[
                PaymentRow(
                    id=paid.payment_id,
                    amount=f"{paid.amount:f}",
                    day=paid.day,
                    note=paid.note,
                    by=paid.by,
                    withdrawn=paid.withdrawn,
                )
                for paid in each.payments
            ],
            questions=[
                QuestionRow(id=asked.question_id, **{k: v for k, v in asdict(asked).items() if k != "question_id"})
                for asked in each.questions
            ],
        )
        for each in db.snapshot(listing.lives, who, buyer, month)
    ]


@own_routes.post("/{buyer}/{month}/questions", response_model=QuestionAsked, status_code=201)
def ask(db: Keyed, who: Who, buyer: str, month: str, body: QuestionBody) -> Any:
    """Ask about a line of a closed statement."""
    line = (body.kind, body.reference)
    return QuestionAsked(id=db.run(questions.ask, who, buyer, month, body.number, line, body.question))


@billing_routes.get("/{account}", response_model=BillingFound)
def billing(db: Db, who: Who, account: str) -> Any:
    """An account's billing details and contacts."""
    return BillingFound.model_validate(asdict(db.snapshot(billing_details.billing, who, account)))


@billing_routes.put("/{account}", status_code=204, response_class=Response)
def change_billing(db: Keyed, who: Who, account: str, body: BillingBody) -> Response:
    """Give an account other billing details and contacts."""
    details = billing_details.BillingDetails(**body.details.model_dump())
    contacts = [billing_details.Contact(**each.model_dump()) for each in body.contacts]
    db.run(billing_details.change, who, account, details, contacts)
    return Response(status_code=204)
