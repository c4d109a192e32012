"""people in small letters"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

import fair_ladle.app.plumbing.database

revision = '0008'
down_revision = '0007'


def upgrade() -> None:
    """people in small letters."""
    op.add_column('people', sa.Column('username_small', sa.String(length=128, collation='utf8mb4_nopad_bin'), sa.Computed('lower(`username`)', persisted=True), nullable=True))
    op.add_column('people', sa.Column('display_name_small', sa.String(length=200, collation='utf8mb4_nopad_bin'), sa.Computed('lower(`display_name`)', persisted=True), nullable=True))
    op.add_column('people', sa.Column('email_small', sa.String(length=254, collation='utf8mb4_nopad_bin'), sa.Computed('lower(`email`)', persisted=True), nullable=True))
    op.add_column('people', sa.Column('title_small', sa.String(length=200, collation='utf8mb4_nopad_bin'), sa.Computed('lower(`title`)', persisted=True), nullable=True))
    op.add_column('people', sa.Column('department_small', sa.String(length=200, collation='utf8mb4_nopad_bin'), sa.Computed('lower(`department`)', persisted=True), nullable=True))
