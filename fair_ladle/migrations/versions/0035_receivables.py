"""statements that are sent, due, settled and asked about"""

from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = '0035'
down_revision = '0034'

CODE = {'collation': 'utf8mb4_nopad_bin'}
INSTANT = mysql.DATETIME(fsp=6)


def _money(name: str, **options: Any) -> sa.Column[Any]:
    return sa.Column(name, sa.Numeric(30, 10), **options)


def _of(table: str, column: str, other: str) -> sa.ForeignKeyConstraint:
    return sa.ForeignKeyConstraint([column], [f'{other}.id'], name=op.f(f'fk_{table}_{column}_{other}'))


def upgrade() -> None:
    """Statements that were closed before have no day due; nothing of them was sent or paid here."""
    op.add_column('closed_statements', sa.Column('due_day', sa.Date(), comment='NULL = no term of payment'))
    op.add_column(
        'outbox',
        sa.Column('encloses', sa.String(100), comment='what is enclosed, made when it is sent; NULL = nothing'),
    )
    op.add_column(
        'outbox',
        sa.Column(
            'bulk', sa.Boolean(), nullable=False, server_default='0', comment='one of many: it holds back no other'
        ),
    )
    op.drop_index('ix_outbox_due_at', 'outbox')
    op.create_index('ix_outbox_due_at', 'outbox', ['bulk', 'due_at'])
    op.create_table(
        'billing_contacts',
        sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column('account_id', sa.BigInteger(), nullable=False),
        sa.Column('email', sa.String(254), nullable=False),
        sa.Column('gets_statements', sa.Boolean(), nullable=False),
        sa.Column('gets_data', sa.Boolean(), nullable=False, comment='the same as CSV'),
        sa.Column('gets_reminders', sa.Boolean(), nullable=False),
        _of('billing_contacts', 'account_id', 'accounts'),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_billing_contacts')),
        sa.UniqueConstraint('account_id', 'email', name=op.f('uq_billing_contacts_account_id_email')),
    )
    op.create_table(
        'receivable_desks',
        sa.Column('seller_id', sa.BigInteger(), nullable=False),
        sa.Column('touched', sa.BigInteger(), server_default='0', nullable=False, comment='goes up with each lock'),
        _of('receivable_desks', 'seller_id', 'accounts'),
        sa.PrimaryKeyConstraint('seller_id', name=op.f('pk_receivable_desks')),
    )
    op.create_table(
        'statement_mails',
        sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column('statement_id', sa.BigInteger(), nullable=False),
        sa.Column('outbox_id', sa.BigInteger(), nullable=False),
        sa.Column('kind', sa.String(16), nullable=False, comment='statement or reminder'),
        sa.Column('at', INSTANT, nullable=False),
        sa.Column('by', sa.String(254), nullable=False),
        _of('statement_mails', 'statement_id', 'closed_statements'),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_statement_mails')),
    )
    op.create_index('ix_statement_mails_statement_id', 'statement_mails', ['statement_id', 'kind'])
    op.create_table(
        'payments',
        sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column('seller_id', sa.BigInteger(), nullable=False),
        sa.Column('statement_id', sa.BigInteger(), nullable=False),
        _money('amount', nullable=False),
        sa.Column('day', sa.Date(), nullable=False),
        sa.Column('note', sa.String(200), nullable=False),
        sa.Column('bank_line', sa.String(64, **CODE), comment='hash of the line of a bank file it came with'),
        sa.Column('at', INSTANT, nullable=False),
        sa.Column('by', sa.String(254), nullable=False),
        sa.Column('withdrawn_at', INSTANT),
        sa.Column('withdrawn_by', sa.String(254)),
        _of('payments', 'seller_id', 'accounts'),
        _of('payments', 'statement_id', 'closed_statements'),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_payments')),
        sa.UniqueConstraint('seller_id', 'bank_line', name=op.f('uq_payments_seller_id_bank_line')),
    )
    op.create_index('ix_payments_statement_id', 'payments', ['statement_id'])
    op.create_table(
        'settled_statements',
        sa.Column('statement_id', sa.BigInteger(), nullable=False, autoincrement=False),
        _money('paid', nullable=False),
        sa.Column('settled', sa.Boolean(), nullable=False),
        _of('settled_statements', 'statement_id', 'closed_statements'),
        sa.PrimaryKeyConstraint('statement_id', name=op.f('pk_settled_statements')),
    )
    op.create_table(
        'statement_questions',
        sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column('statement_id', sa.BigInteger(), nullable=False),
        sa.Column('kind', sa.String(16), nullable=False),
        sa.Column('reference', sa.String(150, **CODE), nullable=False),
        sa.Column('question', sa.String(2000), nullable=False),
        sa.Column('asked_at', INSTANT, nullable=False),
        sa.Column('asked_by', sa.String(254), nullable=False),
        sa.Column('asker_id', sa.BigInteger(), comment='their sign-in; NULL = nobody is written to'),
        sa.Column('answer', sa.String(2000)),
        sa.Column('answered_at', INSTANT),
        sa.Column('answered_by', sa.String(254)),
        sa.Column('correction', sa.String(100, **CODE), comment='reference of the credit it led to'),
        _of('statement_questions', 'statement_id', 'closed_statements'),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_statement_questions')),
    )
    op.create_index('ix_statement_questions_statement_id', 'statement_questions', ['statement_id', 'answered_at'])
