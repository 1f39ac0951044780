"""Events beside pushes, gated jobs, reuse"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0002"
down_revision = "0001"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "pull_request",
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("source", sa.Text(), nullable=False),
        sa.Column("target", sa.Text(), nullable=False),
        sa.Column("title", sa.Text(), server_default="", nullable=False),
        sa.Column("author", sa.Text(), server_default="", nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("opened_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("project_id", "number"),
    )
    op.create_table(
        "schedule",
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("branch", sa.Text(), nullable=False),
        sa.Column("words", sa.Text(), nullable=False),
        sa.Column("next_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("project_id", "name"),
    )
    op.create_table(
        "seen_event",
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("source", sa.Text(), nullable=False),
        sa.Column("event_id", sa.Text(), nullable=False),
        sa.Column("said", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("project_id", "source", "event_id"),
    )
    op.create_table(
        "untested",
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("commit_id", sa.Text(), nullable=False),
        sa.Column("branch", sa.Text(), nullable=False),
        sa.Column("run", sa.Integer(), nullable=False),
        sa.Column("title", sa.Text(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("project_id", "commit_id", "branch"),
    )
    op.create_table(
        "approval",
        sa.Column("run_id", sa.Integer(), nullable=False),
        sa.Column("job", sa.Text(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("by", sa.Text(), server_default="", nullable=False),
        sa.Column("until", sa.DateTime(timezone=True), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(["run_id"], ["run.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("run_id", "job"),
    )
    op.add_column("cell", sa.Column("selected", sa.Boolean(), server_default=sa.text("true"), nullable=False))
    op.add_column("cell", sa.Column("gated", sa.Boolean(), server_default=sa.text("false"), nullable=False))
    op.add_column("cell", sa.Column("ready", sa.Boolean(), server_default=sa.text("true"), nullable=False))
    op.add_column("cell", sa.Column("at_once", sa.Integer(), nullable=True))
    op.add_column("cell", sa.Column("reused", sa.Integer(), nullable=True))
    op.add_column("cell", sa.Column("content", sa.Text(), nullable=True))
    op.create_index("cell_of_content", "cell", ["content"], unique=False)
    op.add_column("project", sa.Column("plan", sa.Text(), nullable=True))
    op.add_column("project", sa.Column("plan_by", sa.Text(), server_default="", nullable=False))
    op.add_column("project", sa.Column("plan_at", sa.DateTime(timezone=True), nullable=True))
    op.add_column("project", sa.Column("event_secret", sa.Text(), server_default="", nullable=False))
    op.add_column("run", sa.Column("tag", sa.Text(), server_default="", nullable=False))
    op.add_column("run", sa.Column("source", sa.Text(), server_default="", nullable=False))
    op.add_column("run", sa.Column("pull_request", sa.Integer(), nullable=True))
    op.add_column("run", sa.Column("base", sa.Text(), nullable=True))
    op.add_column("run", sa.Column("tested", sa.Text(), nullable=True))
    op.add_column(
        "run", sa.Column("wish", postgresql.JSONB(astext_type=sa.Text()), server_default="{}", nullable=False)
    )
    op.add_column(
        "run", sa.Column("left_out", postgresql.JSONB(astext_type=sa.Text()), server_default="[]", nullable=False)
    )
    op.add_column("run", sa.Column("rules", sa.Text(), nullable=True))
    op.add_column("report", sa.Column("until", sa.DateTime(timezone=True), nullable=True))
    op.add_column("runner", sa.Column("price", sa.Float(), server_default="0", nullable=False))
    op.add_column("run", sa.Column("gated_said", sa.Text(), server_default="", nullable=False))


def downgrade() -> None:
    op.drop_column("report", "until")
    op.drop_column("runner", "price")
    op.drop_column("run", "gated_said")
    op.drop_column("run", "rules")
    op.drop_column("run", "left_out")
    op.drop_column("run", "wish")
    op.drop_column("run", "tested")
    op.drop_column("run", "base")
    op.drop_column("run", "pull_request")
    op.drop_column("run", "source")
    op.drop_column("run", "tag")
    op.drop_column("project", "event_secret")
    op.drop_column("project", "plan_at")
    op.drop_column("project", "plan_by")
    op.drop_column("project", "plan")
    op.drop_index("cell_of_content", table_name="cell")
    op.drop_column("cell", "content")
    op.drop_column("cell", "reused")
    op.drop_column("cell", "at_once")
    op.drop_column("cell", "ready")
    op.drop_column("cell", "gated")
    op.drop_column("cell", "selected")
    op.drop_table("approval")
    op.drop_table("untested")
    op.drop_table("seen_event")
    op.drop_table("schedule")
    op.drop_table("pull_request")
