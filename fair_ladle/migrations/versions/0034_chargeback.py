"""rate cards in full: charges, discounts, credits, tax and exchange rates"""

from typing import Any

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

revision = '0034'
down_revision = '0033'

CODE = {'collation': 'utf8mb4_nopad_bin'}


def _money(name: str, **options: Any) -> sa.Column[Any]:
    return sa.Column(name, sa.Numeric(30, 10), **options)


def _of_buyer(table: str, *columns: sa.Column[Any]) -> None:
    op.create_table(
        table,
        sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column('seller_id', sa.BigInteger(), nullable=False),
        sa.Column('buyer_id', sa.BigInteger(), nullable=False),
        sa.Column('reference', sa.String(100, **CODE), nullable=False),
        sa.Column(
            'currency', sa.String(3), comment="NULL = the seller's; of a discount without a ceiling, every one"
        ),
        sa.Column('first_day', sa.Date(), nullable=False),
        sa.Column('last_day', sa.Date(), comment='NULL = open'),
        *columns,
        sa.ForeignKeyConstraint(['seller_id'], ['accounts.id'], name=op.f(f'fk_{table}_seller_id_accounts')),
        sa.ForeignKeyConstraint(['buyer_id'], ['accounts.id'], name=op.f(f'fk_{table}_buyer_id_accounts')),
        sa.PrimaryKeyConstraint('id', name=op.f(f'pk_{table}')),
        sa.UniqueConstraint('seller_id', 'buyer_id', 'reference', name=op.f(f'uq_{table}_seller_id_buyer_id_reference')),
    )
    op.create_index(op.f(f'ix_{table}_buyer_id'), table, ['buyer_id'])


def upgrade() -> None:
    """Nobody has any; minimum and fixed fee stay whole."""
    for column in (
        sa.Column('tax', sa.String(16), nullable=False, server_default='normal'),
        sa.Column('exemption_reason', sa.String(200)),
        sa.Column('street', sa.String(200)),
        sa.Column('postcode', sa.String(32)),
        sa.Column('city', sa.String(100)),
        sa.Column('country', sa.String(2)),
        sa.Column('tax_number', sa.String(32)),
        sa.Column('payment_days', sa.Integer()),
        sa.Column('iban', sa.String(34)),
        sa.Column('buyer_reference', sa.String(100), comment="the buyer's own order number"),
        sa.Column('cost_centre', sa.String(64)),
    ):
        op.add_column('accounts', column)
    op.add_column('products', sa.Column('tax_class', sa.String(64, **CODE)))
    op.add_column(
        'products',
        sa.Column('idle', sa.String(8), nullable=False, server_default='retained', comment='retained or spread'),
    )
    op.add_column('rates', _money('committed'))
    op.add_column('rates', sa.Column('fees', sa.String(8), nullable=False, server_default='whole'))
    op.add_column('rates', _money('markup', comment='percent on what it cost the seller, in place of tiers'))
    _of_buyer(
        'charges',
        sa.Column('description', sa.String(200)),
        sa.Column('tax_class', sa.String(64, **CODE)),
        _money('quantity', nullable=False),
        _money('unit_price', nullable=False),
        sa.Column('every', sa.String(8), nullable=False),
        sa.Column('fees', sa.String(8), nullable=False),
    )
    _of_buyer(
        'discounts',
        sa.Column('product_id', sa.BigInteger(), comment='NULL = all usage lines and charges'),
        _money('percent', nullable=False),
        _money('ceiling'),
    )
    op.create_foreign_key(op.f('fk_discounts_product_id_products'), 'discounts', 'products', ['product_id'], ['id'])
    _of_buyer('credits', _money('amount', nullable=False))
    op.create_table(
        'tax_rates',
        sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column('seller_id', sa.BigInteger(), nullable=False),
        sa.Column('tax_class', sa.String(64, **CODE), nullable=False),
        sa.Column('first_day', sa.Date(), nullable=False),
        _money('percent', nullable=False),
        sa.ForeignKeyConstraint(['seller_id'], ['accounts.id'], name=op.f('fk_tax_rates_seller_id_accounts')),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_tax_rates')),
        sa.UniqueConstraint('seller_id', 'tax_class', 'first_day', name=op.f('uq_tax_rates_seller_id_tax_class_first_day')),
    )
    op.create_table(
        'exchange_rates',
        sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column('day', sa.Date(), nullable=False),
        sa.Column('of', sa.String(3), nullable=False),
        sa.Column('into', sa.String(3), nullable=False, comment='1 of it is rate of this'),
        _money('rate', nullable=False),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_exchange_rates')),
        sa.UniqueConstraint('day', 'of', 'into', name=op.f('uq_exchange_rates_day_of_into')),
    )
    _closing()


def _seller(table: str) -> sa.ForeignKeyConstraint:
    return sa.ForeignKeyConstraint(['seller_id'], ['accounts.id'], name=op.f(f'fk_{table}_seller_id_accounts'))


def _closing() -> None:
    op.create_table(
        'statement_numbers',
        sa.Column('seller_id', sa.BigInteger(), nullable=False),
        sa.Column('closed_until', sa.Date(), comment='first day of the newest month that is closed'),
        sa.Column('year', sa.Integer(), nullable=False),
        sa.Column('number', sa.Integer(), nullable=False, comment='the last one given in that year'),
        _seller('statement_numbers'),
        sa.PrimaryKeyConstraint('seller_id', name=op.f('pk_statement_numbers')),
    )
    op.create_table(
        'closed_periods',
        sa.Column('seller_id', sa.BigInteger(), nullable=False),
        sa.Column('first_day', sa.Date(), nullable=False, comment='of the month'),
        sa.Column('closed_at', mysql.DATETIME(fsp=6), nullable=False),
        sa.Column('closed_by', sa.String(254), nullable=False),
        sa.Column(
            'reason', sa.String(2000), nullable=False, comment='why what could be objected to was let pass'
        ),
        sa.Column(
            'kept', mysql.LONGBLOB(), nullable=False, comment='rates and terms it was priced with, as packed JSON'
        ),
        sa.Column('made_of', mysql.LONGTEXT(), nullable=False, comment='of the facts of each product, as JSON'),
        sa.Column('hash', sa.String(64), nullable=False),
        _seller('closed_periods'),
        sa.PrimaryKeyConstraint('seller_id', 'first_day', name=op.f('pk_closed_periods')),
    )
    op.create_table(
        'closed_statements',
        sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column('seller_id', sa.BigInteger(), nullable=False),
        sa.Column('buyer_id', sa.BigInteger(), nullable=False),
        sa.Column('first_day', sa.Date(), nullable=False, comment='of the month'),
        sa.Column('currency', sa.String(3), nullable=False),
        sa.Column('year', sa.Integer(), nullable=False),
        sa.Column('number', sa.Integer(), nullable=False),
        sa.Column('tax', sa.String(16), nullable=False, comment='what the buyer was taxed'),
        _money('net', nullable=False),
        _money('total', nullable=False),
        sa.Column('document', mysql.LONGBLOB(), nullable=False, comment='the whole of it, as packed JSON'),
        sa.Column('hash', sa.String(64), nullable=False),
        _seller('closed_statements'),
        sa.ForeignKeyConstraint(['buyer_id'], ['accounts.id'], name=op.f('fk_closed_statements_buyer_id_accounts')),
        sa.PrimaryKeyConstraint('id', name=op.f('pk_closed_statements')),
        sa.UniqueConstraint('seller_id', 'year', 'number', name=op.f('uq_closed_statements_seller_id_year_number')),
    )
    op.create_index('uq_closed_statements_month', 'closed_statements', ['seller_id', 'first_day', 'buyer_id', 'currency'], unique=True)
    op.create_index('ix_closed_statements_buyer_id', 'closed_statements', ['buyer_id', 'first_day'])
    op.create_table(
        'closed_lines',
        sa.Column('statement_id', sa.BigInteger(), nullable=False),
        sa.Column('place', sa.Integer(), nullable=False, autoincrement=False),
        sa.Column('kind', sa.String(16), nullable=False),
        sa.Column('reference', sa.String(150, **CODE), nullable=False),
        _money('amount', nullable=False),
        sa.Column('taxed', sa.String(1000), nullable=False, comment='how much of it at which percentage, as JSON'),
        sa.ForeignKeyConstraint(
            ['statement_id'], ['closed_statements.id'], name=op.f('fk_closed_lines_statement_id_closed_statements')
        ),
        sa.PrimaryKeyConstraint('statement_id', 'place', name=op.f('pk_closed_lines')),
    )
