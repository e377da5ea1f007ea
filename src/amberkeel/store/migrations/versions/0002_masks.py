"""masks"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = '0002'
down_revision = '0001'
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table('mask',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('shot_id', sa.Integer(), nullable=False),
    sa.Column('name', sa.String(length=80), nullable=False),
    sa.Column('kind', sa.String(length=10), nullable=False),
    sa.Column('colour', sa.String(length=9), nullable=False),
    sa.Column('purpose', sa.String(length=10), nullable=False),
    sa.Column('on', sa.Boolean(), nullable=False),
    sa.Column('removed', sa.Boolean(), nullable=False),
    sa.Column('first', sa.Integer(), nullable=True),
    sa.Column('last', sa.Integer(), nullable=True),
    sa.Column('margin', sa.Double(), nullable=False),
    sa.Column('keys', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('frames', sa.ARRAY(sa.Integer()), nullable=False),
    sa.Column('mattes', sa.ARRAY(sa.String(length=64)), nullable=False),
    sa.Column('samples', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('cleaning', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('source', sa.String(length=400), nullable=False),
    sa.Column('created', sa.DateTime(), nullable=False),
    sa.ForeignKeyConstraint(['shot_id'], ['shot.id'], ),
    sa.PrimaryKeyConstraint('id')
    )
    op.create_index(op.f('ix_mask_shot_id'), 'mask', ['shot_id'], unique=False)
    op.create_table('proposal',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('shot_id', sa.Integer(), nullable=False),
    sa.Column('kind', sa.String(length=12), nullable=False),
    sa.Column('state', sa.String(length=10), nullable=False),
    sa.Column('frames', sa.ARRAY(sa.Integer()), nullable=False),
    sa.Column('mattes', sa.ARRAY(sa.String(length=64)), nullable=False),
    sa.Column('tracks', sa.ARRAY(sa.BigInteger()), nullable=False),
    sa.Column('evidence', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('created', sa.DateTime(), nullable=False),
    sa.ForeignKeyConstraint(['shot_id'], ['shot.id'], ),
    sa.PrimaryKeyConstraint('id')
    )
    op.create_index(op.f('ix_proposal_shot_id'), 'proposal', ['shot_id'], unique=False)
    op.add_column('shot', sa.Column('masks_stamp', sa.Integer(), nullable=False, server_default='0'))
    op.add_column('shot', sa.Column('followed_stamp', sa.Integer(), nullable=False, server_default='0'))


def downgrade() -> None:
    op.drop_column('shot', 'followed_stamp')
    op.drop_column('shot', 'masks_stamp')
    op.drop_index(op.f('ix_proposal_shot_id'), table_name='proposal')
    op.drop_table('proposal')
    op.drop_index(op.f('ix_mask_shot_id'), table_name='mask')
    op.drop_table('mask')
