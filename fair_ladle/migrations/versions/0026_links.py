"""links that work once, to set a password or an installation up"""

import sqlalchemy as sa
import fair_ladle.app.plumbing.database
from alembic import op

revision = '0026'
down_revision = '0025'


def upgrade() -> None:
    """Nothing is there before."""
    op.create_table(
        'sign_in_links',
        sa.Column('token_hash', sa.String(length=64), nullable=False),
        sa.Column('kind', sa.String(length=16), nullable=False, comment='setup or password'),
        sa.Column('sign_in_id', sa.BigInteger(), comment='whose password; NULL for a setup'),
        sa.Column('made_at', fair_ladle.app.plumbing.database.Instant(), nullable=False),
        sa.Column('expires_at', fair_ladle.app.plumbing.database.Instant(), nullable=False),
        sa.Column('used_at', fair_ladle.app.plumbing.database.Instant()),
        sa.ForeignKeyConstraint(['sign_in_id'], ['sign_ins.id'], name=op.f('fk_sign_in_links_sign_in_id_sign_ins')),
        sa.PrimaryKeyConstraint('token_hash', name=op.f('pk_sign_in_links')),
    )
    op.create_index('ix_sign_in_links_sign_in_id', 'sign_in_links', ['sign_in_id'])
    op.alter_column(
        'sign_ins',
        'password_hash',
        existing_type=sa.String(length=255),
        existing_nullable=False,
        comment='empty = none was set yet',
    )
