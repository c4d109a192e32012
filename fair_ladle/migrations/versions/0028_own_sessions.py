"""sessions one can tell apart, and a second factor"""

import sqlalchemy as sa
import fair_ladle.app.plumbing.database
from alembic import op

revision = '0028'
down_revision = '0027'


def upgrade() -> None:
    """Nobody has a second factor before."""
    op.add_column('sessions', sa.Column('origin', sa.String(length=64), comment='the address it began from'))
    op.add_column('sessions', sa.Column('agent', sa.String(length=200), comment='what the browser says it is'))
    op.create_table(
        'second_factors',
        sa.Column('sign_in_id', sa.BigInteger(), nullable=False),
        sa.Column('secret', sa.String(length=64), nullable=False, comment='TOTP, base 32'),
        sa.Column('confirmed_at', fair_ladle.app.plumbing.database.Instant(), comment='NULL = not in force yet'),
        sa.Column('last_step', sa.BigInteger(), nullable=False, comment='of the newest code that was taken'),
        sa.ForeignKeyConstraint(['sign_in_id'], ['sign_ins.id'], name=op.f('fk_second_factors_sign_in_id_sign_ins')),
        sa.PrimaryKeyConstraint('sign_in_id', name=op.f('pk_second_factors')),
    )
    op.create_table(
        'recovery_codes',
        sa.Column('sign_in_id', sa.BigInteger(), nullable=False),
        sa.Column('code_hash', sa.String(length=64), nullable=False),
        sa.ForeignKeyConstraint(['sign_in_id'], ['sign_ins.id'], name=op.f('fk_recovery_codes_sign_in_id_sign_ins')),
        sa.PrimaryKeyConstraint('sign_in_id', 'code_hash', name=op.f('pk_recovery_codes')),
    )
