"""Closed statements after closing: contacts, mails, payments and questions."""

from __future__ import annotations

import sqlalchemy as sa

from fair_ladle.app.plumbing.database import Instant, code_column, id_column, metadata, money_column

billing_contacts = sa.Table(
    "billing_contacts",
    metadata,
    id_column(),
    sa.Column("account_id", sa.ForeignKey("accounts.id"), nullable=False),
    sa.Column("email", sa.String(254), nullable=False),
    sa.Column("gets_statements", sa.Boolean, nullable=False),
    sa.Column("gets_data", sa.Boolean, nullable=False, comment="the same as CSV"),
    sa.Column("gets_reminders", sa.Boolean, nullable=False),
    sa.UniqueConstraint("account_id", "email"),
)
"""Contacts of an account besides its billing email, which gets everything."""

receivable_desks = sa.Table(
    "receivable_desks",
    metadata,
    sa.Column("seller_id", sa.ForeignKey("accounts.id"), primary_key=True),
    sa.Column("touched", sa.BigInteger, nullable=False, server_default="0", comment="goes up with each lock"),
)
"""A row a seller: whoever sends, takes payments or answers locks it, and judges under that lock."""

# To whom a mail went stands in the outbox alone, where it is forgotten with a person.
statement_mails = sa.Table(
    "statement_mails",
    metadata,
    id_column(),
    sa.Column("statement_id", sa.ForeignKey("closed_statements.id"), nullable=False),
    sa.Column("outbox_id", sa.BigInteger, nullable=False),
    sa.Column("kind", sa.String(16), nullable=False, comment="statement or reminder"),
    sa.Column("at", Instant, nullable=False),
    sa.Column("by", sa.String(254), nullable=False),
    sa.Index("ix_statement_mails_statement_id", "statement_id", "kind"),
)

payments = sa.Table(
    "payments",
    metadata,
    id_column(),
    sa.Column("seller_id", sa.ForeignKey("accounts.id"), nullable=False),
    sa.Column("statement_id", sa.ForeignKey("closed_statements.id"), nullable=False, index=True),
    money_column("amount", nullable=False),
    sa.Column("day", sa.Date, nullable=False),
    sa.Column("note", sa.String(200), nullable=False),
    code_column("bank_line", 64, comment="hash of the line of a bank file it came with"),
    sa.Column("at", Instant, nullable=False),
    sa.Column("by", sa.String(254), nullable=False),
    sa.Column("withdrawn_at", Instant),
    sa.Column("withdrawn_by", sa.String(254)),
    sa.UniqueConstraint("seller_id", "bank_line"),
)

settled_statements = sa.Table(
    "settled_statements",
    metadata,
    sa.Column("statement_id", sa.ForeignKey("closed_statements.id"), primary_key=True, autoincrement=False),
    money_column("paid", nullable=False),
    sa.Column("settled", sa.Boolean, nullable=False),
)
"""What the payments of a statement add up to, for statements that have any."""

statement_questions = sa.Table(
    "statement_questions",
    metadata,
    id_column(),
    sa.Column("statement_id", sa.ForeignKey("closed_statements.id"), nullable=False),
    sa.Column("kind", sa.String(16), nullable=False),
    code_column("reference", 150, nullable=False),
    sa.Column("question", sa.String(2000), nullable=False),
    sa.Column("asked_at", Instant, nullable=False),
    sa.Column("asked_by", sa.String(254), nullable=False),
    sa.Column("asker_id", sa.BigInteger, comment="their sign-in; NULL = nobody is written to"),
    sa.Column("answer", sa.String(2000)),
    sa.Column("answered_at", Instant),
    sa.Column("answered_by", sa.String(254)),
    code_column("correction", 100, comment="reference of the credit it led to"),
    sa.Index("ix_statement_questions_statement_id", "statement_id", "answered_at"),
)
