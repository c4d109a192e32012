"""people and groups looked after"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import mysql

import fair_ladle.app.plumbing.database

revision = '0007'
down_revision = '0006'


def upgrade() -> None:
    """people and groups looked after."""
    op.create_table('saved_views',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('sign_in_id', sa.BigInteger(), nullable=False),
    sa.Column('name', sa.String(length=100), nullable=False),
    sa.Column('query', sa.String(length=2000), nullable=False, comment='what stands in the address after ?'),
    sa.ForeignKeyConstraint(['sign_in_id'], ['sign_ins.id'], name=op.f('fk_saved_views_sign_in_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_saved_views')),
    sa.UniqueConstraint('sign_in_id', 'name', name=op.f('uq_saved_views_sign_in_id_name'))
    )
    op.create_table('invitations',
    sa.Column('id', sa.BigInteger(), autoincrement=True, nullable=False),
    sa.Column('person_id', sa.BigInteger(), nullable=False),
    sa.Column('token_hash', sa.String(length=64), nullable=False),
    sa.Column('sent_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.Column('expires_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=False),
    sa.Column('used_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True),
    sa.Column('withdrawn_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True),
    sa.ForeignKeyConstraint(['person_id'], ['people.id'], name=op.f('fk_invitations_person_id')),
    sa.PrimaryKeyConstraint('id', name=op.f('pk_invitations')),
    sa.UniqueConstraint('token_hash', name=op.f('uq_invitations_token_hash'))
    )
    op.create_index(op.f('ix_invitations_person_id'), 'invitations', ['person_id'], unique=False)
    op.add_column('groups', sa.Column('source', sa.String(length=64), server_default='here', nullable=False, comment='who keeps this group: here, or a directory'))
    op.alter_column('groups', 'members',
               existing_type=mysql.TEXT(),
               type_=mysql.MEDIUMTEXT(),
               existing_comment='usernames and group codes, joined by ;',
               existing_nullable=False)
    op.add_column('people', sa.Column('source', sa.String(length=64), server_default='here', nullable=False, comment='who keeps this person: here, or a directory'))
    op.add_column('people', sa.Column('removed_at', fair_ladle.app.plumbing.database.Instant(fsp=6), nullable=True, comment='when status became removed; can be restored for a while'))
    op.add_column('people', sa.Column('kept', sa.JSON(), nullable=True, comment='products released when suspended, to be given again on resuming'))
    op.create_index('ix_people_display_name', 'people', ['display_name'], unique=False)
    op.create_index('ix_people_last_seen_at', 'people', ['last_seen_at'], unique=False)
