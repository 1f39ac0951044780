"""where outcomes are told, addresses of badges, pull requests that are refs"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0008"
down_revision = "0007"
branch_labels = None
depends_on = None


def upgrade() -> None:
    for name in ("badge_key", "pull_refs", "pull_target"):
        op.add_column("project", sa.Column(name, sa.Text(), server_default="", nullable=False))
    op.create_table(
        "way",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("project_id", sa.Integer(), sa.ForeignKey("project.id", ondelete="CASCADE"), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("shown", sa.Text(), nullable=False),
        sa.Column("sealed", sa.LargeBinary(), nullable=False),
        sa.Column("always", sa.Boolean(), nullable=False),
        sa.Column("branches", postgresql.ARRAY(sa.Text()), server_default="{}", nullable=False),
        sa.Column("in_force", sa.Boolean(), server_default=sa.text("true"), nullable=False),
        sa.Column("by", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
        sa.UniqueConstraint("project_id", "name"),
    )
    op.create_table(
        "delivery",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column("way_id", sa.Integer(), sa.ForeignKey("way.id", ondelete="CASCADE"), nullable=False),
        sa.Column("project_id", sa.Integer(), sa.ForeignKey("project.id", ondelete="CASCADE"), nullable=False),
        sa.Column("run", sa.Integer(), nullable=False),
        sa.Column("context", sa.Text(), nullable=False),
        sa.Column("subject", sa.Text(), nullable=False),
        sa.Column("said", sa.Text(), nullable=False),
        sa.Column("named_values", postgresql.JSONB(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("tries", sa.Integer(), server_default="0", nullable=False),
        sa.Column("next_at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
        sa.Column("sent_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("answer", sa.Text(), server_default="", nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
        sa.UniqueConstraint("way_id", "subject"),
    )
    op.create_index("delivery_of_run", "delivery", ["project_id", "run"])
    op.create_index("delivery_in_context", "delivery", ["way_id", "context", "id"])
    op.create_index("delivery_waiting", "delivery", ["way_id", "id"], postgresql_where=sa.text("state = 'waiting'"))
