"""branches as ranges, and who is in a group by its rule as rows"""

import sqlalchemy as sa
from alembic import op

revision = '0020'
down_revision = '0019'


def upgrade() -> None:
    """Each account's place in the tree as a path of numbers, and who a group's rule is true of."""
    op.add_column('accounts', sa.Column('path', sa.String(length=3000, collation='ascii_bin'), nullable=False, server_default='', comment='its number and those above it from the top, each as 6 digits of 36: a branch is a range'))
    op.create_index(op.f('ix_accounts_path'), 'accounts', ['path'])
    connection = op.get_bind()
    places = connection.execute(sa.text('SELECT account_id, parent_id FROM account_parents WHERE last_day IS NULL')).all()
    parent = {row.account_id: row.parent_id for row in places}
    path: dict[int | None, str] = {}

    def path_of(account_id: int | None) -> None:
        way: list[int] = []
        while account_id is not None and account_id not in path:
            way.append(account_id)
            account_id = parent.get(account_id)
        for each in reversed(way):
            path[each] = path.get(parent.get(each), '') + in_36(each)

    for each in parent:
        path_of(each)
    if path:
        connection.execute(sa.text('UPDATE accounts SET path = :path WHERE id = :id'), [{'id': key, 'path': value} for key, value in path.items()])
    op.add_column('people', sa.Column('regroup', sa.Boolean(), nullable=False, server_default='1', comment='whether rules are yet to be asked about them again'))
    op.create_index(op.f('ix_people_regroup'), 'people', ['regroup'])
    op.create_index(op.f('ix_people_title_small'), 'people', ['title_small'])
    op.create_index(op.f('ix_people_department_small'), 'people', ['department_small'])
    op.add_column('groups', sa.Column('kept_rule', sa.Text(), nullable=True, comment='the rule that rule_matches answers; another than rule = not yet'))
    op.create_table(
        'rule_matches',
        sa.Column('group_id', sa.BigInteger(), nullable=False),
        sa.Column('person_id', sa.BigInteger(), nullable=False),
        sa.ForeignKeyConstraint(['group_id'], ['groups.id'], name=op.f('fk_rule_matches_group_id'), ondelete='CASCADE'),
        sa.PrimaryKeyConstraint('group_id', 'person_id', name=op.f('pk_rule_matches')),
    )
    op.create_index(op.f('ix_rule_matches_person_id'), 'rule_matches', ['person_id'])


def in_36(number: int) -> str:
    found = ''
    for _ in range(6):
        number, rest = divmod(number, 36)
        found = '0123456789abcdefghijklmnopqrstuvwxyz'[rest] + found
    return found
