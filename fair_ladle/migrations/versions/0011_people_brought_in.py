"""people brought in"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

import fair_ladle.app.plumbing.database

revision = '0011'
down_revision = '0010'


def upgrade() -> None:
    """people brought in."""
    op.create_table('people_imports',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('sign_in_id', sa.BigInteger(), nullable=False),
    sa.Column('through', sa.String(length=64, collation='utf8mb4_nopad_bin'), nullable=False),
    sa.Column('by', sa.String(length=200), nullable=False),
    sa.Column('name', sa.String(length=200), nullable=False),
    sa.Column('at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.Column('header', sa.JSON(), nullable=False),
    sa.Column('cells', mysql.LONGBLOB(), nullable=True, comment='the rows as they came: [row number, cells], as JSON, deflated; NULL once brought in'),
    sa.Column('count', sa.Integer(), nullable=False),
    sa.Column('how', sa.JSON(), nullable=False, comment='which column is what, and what is done with whom'),
    sa.Column('state', sa.String(length=16), nullable=False, comment='open, running, cancelled, broken or done'),
    sa.Column('total', sa.Integer(), server_default='0', nullable=False, comment='rows that something is to be done with'),
    sa.Column('done', sa.Integer(), server_default='0', nullable=False),
    sa.Column('trouble', sa.Text(), nullable=True, comment='why it broke off'),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_people_imports'))
    )
    op.create_index(op.f('ix_people_imports_sign_in_id'), 'people_imports', ['sign_in_id'], unique=False)
    op.create_table('people_import_parts',
    sa.Column('import_id', sa.BigInteger(), nullable=False),
    sa.Column('number', sa.Integer(), autoincrement=False, nullable=False),
    sa.Column('steps', mysql.LONGBLOB(), nullable=False, comment='what is to be done, row by row, as JSON, deflated'),
    sa.Column('outcome', mysql.LONGBLOB(), nullable=True, comment='what was done, row by row; NULL = not yet'),
    sa.ForeignKeyConstraint(['import_id'], ['people_imports.id'], name=op.f('fk_people_import_parts_import_id')),
    sa.PrimaryKeyConstraint('import_id', 'number', name=op.f('pk_people_import_parts'))
    )
