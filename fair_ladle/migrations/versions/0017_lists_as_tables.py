"""lists as tables, indexes by time, one account to a domain"""

import sqlalchemy as sa
from alembic import op

revision = '0017'
down_revision = '0016'

LETTERS = 'utf8mb4_nopad_bin'


def upgrade() -> None:
    """Members, base products, components and thresholds get tables of their own."""
    op.create_table('group_members',
    sa.Column('group_id', sa.BigInteger(), nullable=False),
    sa.Column('member', sa.String(length=128, collation=LETTERS), nullable=False, comment='a username, or the code of another group'),
    sa.Column('place', sa.Integer(), nullable=False),
    sa.ForeignKeyConstraint(['group_id'], ['groups.id'], name=op.f('fk_group_members_group_id'), ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('group_id', 'member', name=op.f('pk_group_members')),
    )
    op.create_index('ix_group_members_member', 'group_members', ['member'])
    op.create_table('product_bases',
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('base_id', sa.BigInteger(), nullable=False, comment='one of these is needed'),
    sa.Column('place', sa.Integer(), nullable=False),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_product_bases_product_id'), ondelete='CASCADE'),
    sa.ForeignKeyConstraint(['base_id'], ['products.id'], name=op.f('fk_product_bases_base_id')),
    sa.PrimaryKeyConstraint('product_id', 'base_id', name=op.f('pk_product_bases')),
    )
    op.create_table('product_components',
    sa.Column('product_id', sa.BigInteger(), nullable=False),
    sa.Column('component', sa.String(length=64, collation=LETTERS), nullable=False),
    sa.Column('mandatory', sa.Boolean(), nullable=False, comment='always on, wherever the product is'),
    sa.Column('place', sa.Integer(), nullable=False),
    sa.ForeignKeyConstraint(['product_id'], ['products.id'], name=op.f('fk_product_components_product_id'), ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('product_id', 'component', name=op.f('pk_product_components')),
    )
    op.create_table('threshold_levels',
    sa.Column('account_id', sa.BigInteger(), autoincrement=False, nullable=False),
    sa.Column('product_id', sa.BigInteger(), autoincrement=False, nullable=False),
    sa.Column('level', sa.Integer(), autoincrement=False, nullable=False, comment='percent of the cap'),
    sa.ForeignKeyConstraint(['account_id', 'product_id'], ['thresholds.account_id', 'thresholds.product_id'], name=op.f('fk_threshold_levels_account_id'), ondelete='CASCADE'),
    sa.PrimaryKeyConstraint('account_id', 'product_id', 'level', name=op.f('pk_threshold_levels')),
    )
    _fill()
    op.drop_column('groups', 'members')
    op.add_column('groups', sa.Column('touched', sa.BigInteger(), server_default='0', nullable=False, comment='goes up with each lock'))
    op.drop_column('products', 'requires')
    op.drop_column('products', 'components')
    op.drop_column('thresholds', 'levels')
    op.create_index('ix_assignments_product_id_account_id_ends', 'assignments', ['product_id', 'account_id', 'ends'])
    op.drop_index('ix_assignments_account_id_ends', 'assignments')
    op.create_index('ix_assignments_product_id_begins', 'assignments', ['product_id', 'begins'])
    op.create_index('ix_assignments_product_id_ends', 'assignments', ['product_id', 'ends'])
    op.create_index('ix_storage_samples_product_id_at', 'storage_samples', ['product_id', 'at'])
    op.add_column('email_domains', sa.Column('approved_domain', sa.String(length=253, collation=LETTERS), sa.Computed('if(`approved_at` is null,NULL,`domain`)', persisted=True), nullable=True, comment='one account has it'))
    op.create_unique_constraint(op.f('uq_email_domains_approved_domain'), 'email_domains', ['approved_domain'])


def _fill() -> None:
    connection = op.get_bind()

    def lists(table: str, column: str, keys: str = 'id') -> list[tuple[tuple[int, ...], list[str]]]:
        rows = connection.execute(sa.text(f'SELECT {keys}, `{column}` FROM `{table}`')).fetchall()
        return [(tuple(row[:-1]), list(dict.fromkeys(each for each in (row[-1] or '').split(';') if each))) for row in rows]

    def write(table: str, columns: list[str], rows: list[tuple[object, ...]]) -> None:
        if rows:
            into, values = ', '.join(columns), ', '.join(f':{each}' for each in columns)
            connection.execute(
                sa.text(f'INSERT INTO {table} ({into}) VALUES ({values})'), [dict(zip(columns, row, strict=True)) for row in rows]
            )

    write(
        'group_members', ['group_id', 'member', 'place'],
        [(group, member, n) for (group,), members in lists('groups', 'members') for n, member in enumerate(members)],
    )
    ids = {row.code: row.id for row in connection.execute(sa.text('SELECT id, code FROM products'))}
    write(
        'product_bases', ['product_id', 'base_id', 'place'],
        [(product, ids[base], n) for (product,), bases in lists('products', 'requires') for n, base in enumerate(bases) if base in ids],
    )
    write(
        'product_components', ['product_id', 'component', 'mandatory', 'place'],
        [
            (product, code, mandatory, n)
            for (product,), codes in lists('products', 'components')
            for n, (code, mandatory) in enumerate({each.rstrip('!'): each.endswith('!') for each in codes}.items())
        ],
    )
    write(
        'threshold_levels', ['account_id', 'product_id', 'level'],
        [(*key, level) for key, levels in lists('thresholds', 'levels', 'account_id, product_id') for level in sorted({int(each) for each in levels})],
    )
