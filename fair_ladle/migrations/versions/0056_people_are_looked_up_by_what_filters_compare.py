"""people are looked up by username, name and address as filters compare them"""

from alembic import op

revision = '0056'
down_revision = '0055'


def upgrade() -> None:
    """Equality and beginnings read every person without them."""
    for column in ('username_small', 'display_name_small', 'email_small'):
        op.create_index(f'ix_people_{column}', 'people', [column])
