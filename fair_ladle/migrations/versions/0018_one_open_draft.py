"""one open draft a person and branch"""

import sqlalchemy as sa
from alembic import op

revision = '0018'
down_revision = '0017'


def upgrade() -> None:
    """One open draft a person and branch, by a key of the database."""
    # Where a person has two open, the newest stays and the others are held back: nothing of them is lost.
    older = op.get_bind().scalars(sa.text(
        "SELECT d.id FROM drafts d JOIN drafts n ON n.owner_id = d.owner_id AND n.through_id = d.through_id AND n.id > d.id"
        " WHERE d.state = 'open' AND n.state = 'open'"
    )).all()
    held = sa.text("UPDATE drafts SET state = 'held', reason = 'Another draft was open beside it.' WHERE id = :id")
    for draft_id in sorted(set(older)):
        op.get_bind().execute(held, {'id': draft_id})
    op.add_column('drafts', sa.Column('open_of', sa.String(length=42), sa.Computed("if(`state` = 'open',concat(`owner_id`,' ',`through_id`),NULL)", persisted=True), nullable=True, comment='one open draft a person and branch'))
    op.create_unique_constraint(op.f('uq_drafts_open_of'), 'drafts', ['open_of'])
