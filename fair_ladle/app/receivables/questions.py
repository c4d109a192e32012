"""Questions of buyers about lines of closed statements, and their answers."""

from __future__ import annotations

from decimal import Decimal
from urllib.parse import quote

from fair_ladle.app.accounts import service as accounts_service
from fair_ladle.app.log import service as log_service
from fair_ladle.app.notices import service as notices_service
from fair_ladle.app.plumbing import outbox
from fair_ladle.app.plumbing.actor import Actor
from fair_ladle.app.plumbing.addresses import in_a_mail
from fair_ladle.app.plumbing.database import Transaction
from fair_ladle.app.plumbing.problems import conflict, invalid, not_allowed, not_found
from fair_ladle.app.receivables import store
from fair_ladle.app.receivables.listing import seen_by, seller_id
from fair_ladle.app.receivables.rows import ReceivableRecord
from fair_ladle.app.sign_in import service as sign_in_service
from fair_ladle.app.statements import terms
from fair_ladle.app.statements.documents import closed_statement
from fair_ladle.app.statements.ledger import Ledger, numbered
from fair_ladle.app.statements.rate_cards import decimals_of

MOST_OPEN = 50
"""Questions without an answer about one statement."""


def ask(tx: Transaction, actor: Actor, buyer: str, month: str, number: str, line: tuple[str, str], text: str) -> int:
    """Ask about a line (kind, reference) of a closed statement one may see; the question's number. The seller's admins
    are told.

    Writes a row and locks nothing; that the question is open is judged when it is answered.
    """
    found = [each for each, _ in seen_by(tx, actor, buyer, month) if numbered(each.year, each.number) == number]
    if not found:
        raise not_found("statement", number)
    if not text.strip():
        raise invalid("Write what you want to know.", "question")
    row = found[0]
    lines = {(str(kind), reference) for kind, reference, _ in closed_statement(tx, row.id).amounts()}
    if line not in lines:
        raise not_found("line of that statement", line[1])
    before = store.questions_of(tx.connection, [row.id]).get(row.id, [])
    if sum(each.answered_at is None for each in before) >= MOST_OPEN:
        raise conflict(f"{MOST_OPEN} questions about this statement wait for an answer.")
    values = {
        "statement_id": row.id,
        "kind": line[0],
        "reference": line[1],
        "question": text.strip()[:2000],
        "asked_at": tx.now,
        "asked_by": actor.name[:254],
        "asker_id": actor.sign_in_id,
    }
    question_id = store.ask(tx.connection, values)
    accounts = accounts_service.known(tx)
    said = {"number": number, "line": line[1], "question": text.strip()[:500]}
    entry = log_service.Entry("statement question", buyer, row.buyer_id, None, said)
    log_service.write(tx, actor, row.buyer_id, [entry])
    notice = notices_service.Notice(
        f"statement question {question_id}",
        "statement question",
        row.seller_id,
        f"{row.buyer_name} asks about statement {number}",
        text.strip()[:2000],
        None,
        parent_too=False,
    )
    notices_service.notify(tx, accounts, [notice], actor.email)
    return question_id


def answer(
    tx: Transaction, actor: Actor, seller: str, question_id: int, text: str, credit: Decimal | None
) -> str | None:
    """Answer a question about one of a seller's statements, and where that is the answer give a credit, before tax, in
    the first month that is open; the credit's reference. Whoever asked is told by mail.

    Locks the seller's desk alone. Under it is judged that the question has no answer yet.
    """
    mine = seller_id(tx, actor, seller)
    if not text.strip():
        raise invalid("Write an answer.", "answer")
    store.lock_desk(tx.connection, mine)
    asked = store.question(tx.connection, question_id)
    row = None if asked is None else store.by_id(tx.connection, asked.statement_id)
    if asked is None or row is None or row.seller_id != mine:
        raise not_found("question", str(question_id))
    number = numbered(row.year, row.number)
    if asked.answered_at is not None:
        raise conflict(f"{asked.answered_by} has answered this question already.")
    reference = None
    if credit is not None:
        reference = f"Q{question_id}-{number}"
        _credit(tx, actor, seller, row, reference, credit)
    values = {
        "answer": text.strip()[:2000],
        "answered_at": tx.now,
        "answered_by": actor.name[:254],
        "correction": reference,
    }
    store.answer(tx.connection, question_id, values)
    said = {"number": number, "line": asked.reference, "answer": text.strip()[:500]}
    if credit is not None:
        said["credit"] = f"{credit:f} {row.currency}"
    # In the buyer's own log: both sides can look it up.
    log_service.write(tx, actor, mine, [log_service.Entry("statement answer", row.buyer, row.buyer_id, None, said)])
    asker = None if asked.asker_id is None else sign_in_service.actor_for(tx, asked.asker_id, row.buyer)
    if asker is not None and asker.email:
        accounts = accounts_service.known(tx)
        name = in_a_mail(accounts.name(accounts.row_of_id[mine]), "Your provider")
        link = f"{tx.settings.address}/statements/{quote(row.buyer)}?month={row.first_day:%Y-%m}"
        off = "" if credit is None else f"\n{credit:f} {row.currency} is credited in the next statement.\n"
        body = f"Hello,\n\nYou asked about statement {number}:\n{asked.question}\n\nThe answer:\n{text.strip()}\n{off}"
        outbox.write(tx, asker.email, f"Answer about statement {number}", f"{body}\n{link}\n\n{name}\n")
    return reference


def _credit(tx: Transaction, actor: Actor, seller: str, row: ReceivableRecord, reference: str, amount: Decimal) -> None:
    if "statements.close" not in actor.permissions:
        raise not_allowed("Your role here lets you answer, and not take anything off.")
    decimals = decimals_of(row.currency)
    if amount <= 0 or amount != round(amount, decimals):
        raise invalid(f"An amount above 0 with at most {decimals} decimals.", "amount")
    if amount > max(row.net, Decimal(0)):
        raise invalid("The statement comes to less than that before tax.", "amount")
    accounts = accounts_service.known(tx)
    if int(accounts.ids[int(accounts.tree.parent[accounts.row_of_id[row.buyer_id]])]) != row.seller_id:
        raise conflict(f"{row.buyer_name} buys from another account now, so that no later statement can credit it.")
    first = Ledger(tx, [row.buyer]).first_open(seller)
    assert first is not None
    terms.load(
        tx,
        "credits",
        [
            {
                "seller_id": row.seller_id,
                "buyer_id": row.buyer_id,
                "reference": reference,
                "currency": row.currency,
                "first_day": first,
                "last_day": None,
                "amount": amount,
            }
        ],
    )
