"""first tables"""

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = '0001'
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table('production',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('name', sa.String(length=80), nullable=False),
    sa.Column('note', sa.String(length=400), nullable=False),
    sa.Column('created', sa.DateTime(), nullable=False),
    sa.PrimaryKeyConstraint('id'),
    sa.UniqueConstraint('name')
    )
    op.create_table('sensor_preset',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('name', sa.String(length=80), nullable=False),
    sa.Column('width_mm', sa.Double(), nullable=False),
    sa.PrimaryKeyConstraint('id'),
    sa.UniqueConstraint('name')
    )
    op.create_table('shot',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('production_id', sa.Integer(), nullable=False),
    sa.Column('name', sa.String(length=80), nullable=False),
    sa.Column('note', sa.String(length=400), nullable=False),
    sa.Column('revision', sa.Integer(), nullable=False),
    sa.Column('tracks_stamp', sa.Integer(), nullable=False),
    sa.Column('pinned_id', sa.Integer(), nullable=True),
    sa.Column('datum', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('created', sa.DateTime(), nullable=False),
    sa.ForeignKeyConstraint(['production_id'], ['production.id'], ),
    sa.PrimaryKeyConstraint('id'),
    sa.UniqueConstraint('production_id', 'name')
    )
    op.create_table('attempt',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('shot_id', sa.Integer(), nullable=False),
    sa.Column('number', sa.Integer(), nullable=False),
    sa.Column('recipe', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('snapshot', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('figures', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('document', sa.String(length=64), nullable=False),
    sa.Column('errors', sa.String(length=64), nullable=False),
    sa.Column('created', sa.DateTime(), nullable=False),
    sa.ForeignKeyConstraint(['shot_id'], ['shot.id'], ),
    sa.PrimaryKeyConstraint('id'),
    sa.UniqueConstraint('shot_id', 'number')
    )
    op.create_index(op.f('ix_attempt_shot_id'), 'attempt', ['shot_id'], unique=False)
    op.create_table('edit',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('shot_id', sa.Integer(), nullable=False),
    sa.Column('kind', sa.String(length=30), nullable=False),
    sa.Column('label', sa.String(length=200), nullable=False),
    sa.Column('payload', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('inverse', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('undone', sa.Boolean(), nullable=False),
    sa.Column('created', sa.DateTime(), nullable=False),
    sa.ForeignKeyConstraint(['shot_id'], ['shot.id'], ),
    sa.PrimaryKeyConstraint('id')
    )
    op.create_index(op.f('ix_edit_shot_id'), 'edit', ['shot_id'], unique=False)
    op.create_table('job',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('shot_id', sa.Integer(), nullable=True),
    sa.Column('kind', sa.String(length=20), nullable=False),
    sa.Column('arguments', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('state', sa.String(length=12), nullable=False),
    sa.Column('progress', sa.Double(), nullable=False),
    sa.Column('doing', sa.String(length=200), nullable=False),
    sa.Column('error', sa.String(length=600), nullable=False),
    sa.Column('result', postgresql.JSONB(astext_type=sa.Text()), nullable=False),
    sa.Column('cancel', sa.Boolean(), nullable=False),
    sa.Column('tries', sa.Integer(), nullable=False),
    sa.Column('created', sa.DateTime(), nullable=False),
    sa.Column('heartbeat', sa.DateTime(), nullable=False),
    sa.ForeignKeyConstraint(['shot_id'], ['shot.id'], ),
    sa.PrimaryKeyConstraint('id')
    )
    op.create_index(op.f('ix_job_shot_id'), 'job', ['shot_id'], unique=False)
    op.create_index(op.f('ix_job_state'), 'job', ['state'], unique=False)
    op.create_table('plate',
    sa.Column('id', sa.Integer(), nullable=False),
    sa.Column('shot_id', sa.Integer(), nullable=False),
    sa.Column('source', sa.String(length=1000), nullable=False),
    sa.Column('label', sa.String(length=200), nullable=False),
    sa.Column('first', sa.Integer(), nullable=False),
    sa.Column('last', sa.Integer(), nullable=False),
    sa.Column('width', sa.Integer(), nullable=False),
    sa.Column('height', sa.Integer(), nullable=False),
    sa.Column('fps', sa.String(length=20), nullable=False),
    sa.Column('pixel_aspect', sa.Double(), nullable=False),
    sa.Column('sensor_width_mm', sa.Double(), nullable=False),
    sa.Column('focal_mm', sa.Double(), nullable=True),
    sa.Column('proxies', sa.ARRAY(sa.String(length=64)), nullable=False),
    sa.Column('thumbnail', sa.String(length=64), nullable=False),
    sa.ForeignKeyConstraint(['shot_id'], ['shot.id'], ),
    sa.PrimaryKeyConstraint('id'),
    sa.UniqueConstraint('shot_id')
    )
    op.create_table('track',
    sa.Column('id', sa.BigInteger(), nullable=False),
    sa.Column('shot_id', sa.Integer(), nullable=False),
    sa.Column('run', sa.Integer(), nullable=False),
    sa.Column('name', sa.String(length=80), nullable=False),
    sa.Column('kind', sa.String(length=10), nullable=False),
    sa.Column('state', sa.String(length=10), nullable=False),
    sa.Column('removed', sa.Boolean(), nullable=False),
    sa.Column('frames', sa.ARRAY(sa.Integer()), nullable=False),
    sa.Column('x', sa.ARRAY(sa.Float()), nullable=False),
    sa.Column('y', sa.ARRAY(sa.Float()), nullable=False),
    sa.Column('sigma', sa.ARRAY(sa.Float()), nullable=False),
    sa.Column('score', sa.ARRAY(sa.Float()), nullable=False),
    sa.ForeignKeyConstraint(['shot_id'], ['shot.id'], ),
    sa.PrimaryKeyConstraint('id'),
    sa.UniqueConstraint('shot_id', 'run', 'name')
    )
    op.create_index(op.f('ix_track_shot_id'), 'track', ['shot_id'], unique=False)


def downgrade() -> None:
    op.drop_index(op.f('ix_track_shot_id'), table_name='track')
    op.drop_table('track')
    op.drop_table('plate')
    op.drop_index(op.f('ix_job_state'), table_name='job')
    op.drop_index(op.f('ix_job_shot_id'), table_name='job')
    op.drop_table('job')
    op.drop_index(op.f('ix_edit_shot_id'), table_name='edit')
    op.drop_table('edit')
    op.drop_index(op.f('ix_attempt_shot_id'), table_name='attempt')
    op.drop_table('attempt')
    op.drop_table('shot')
    op.drop_table('sensor_preset')
    op.drop_table('production')
