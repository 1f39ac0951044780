"""causes that somebody took, projects that rest"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0007"
down_revision = "0006"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("project", sa.Column("paused", sa.Boolean(), server_default=sa.text("false"), nullable=False))
    op.add_column("project", sa.Column("tracker", sa.Text(), server_default="", nullable=False))
    op.create_table(
        "taking",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("project_id", sa.Integer(), sa.ForeignKey("project.id", ondelete="CASCADE"), nullable=False),
        sa.Column("signature", sa.Text(), nullable=False),
        sa.Column("title", sa.Text(), nullable=False),
        sa.Column("context", sa.Text(), nullable=False),
        sa.Column("run", sa.Integer(), nullable=False),
        sa.Column("by", sa.Text(), nullable=False),
        sa.Column("note", sa.Text(), server_default="", nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.func.now(), nullable=False),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("ended_why", sa.Text(), server_default="", nullable=False),
    )
    op.create_index("ix_taking_project_id", "taking", ["project_id"])
    op.create_index("taking_open", "taking", ["project_id"], postgresql_where=sa.text("ended_at IS NULL"))
