"""Days on which accounts moved are found by an index: every month of a branch asks for them."""

from alembic import op

revision = "0059"
down_revision = "0058"


def upgrade() -> None:
    """Looked for among all places before."""
    op.create_index("ix_account_parents_first_day", "account_parents", ["first_day"])
