"""trusted execution"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0003"
down_revision = "0002"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "secret",
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("sealed", sa.LargeBinary(), nullable=False),
        sa.Column("jobs", postgresql.ARRAY(sa.Text()), server_default="{}", nullable=False),
        sa.Column("events", postgresql.ARRAY(sa.Text()), server_default="{}", nullable=False),
        sa.Column("branches", postgresql.ARRAY(sa.Text()), server_default="{}", nullable=False),
        sa.Column("set_by", sa.Text(), nullable=False),
        sa.Column("set_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("used_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("used_by", sa.Text(), server_default="", nullable=False),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("project_id", "name"),
    )
    op.create_table(
        "usual_lines",
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("job", sa.Text(), nullable=False),
        sa.Column("step", sa.Text(), nullable=False),
        sa.Column("digests", sa.LargeBinary(), nullable=False),
        sa.Column("attempts", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("project_id", "job", "step"),
    )
    op.create_table(
        "server_beat",
        sa.Column("server", sa.Text(), nullable=False),
        sa.Column("since", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("beat_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.PrimaryKeyConstraint("server"),
    )
    op.create_table(
        "control",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("run_id", sa.Integer(), nullable=False),
        sa.Column("cell_id", sa.Integer(), nullable=False),
        sa.Column("place", sa.Text(), nullable=False),
        sa.Column("commit_id", sa.Text(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("attempt_id", sa.Integer(), nullable=True),
        sa.ForeignKeyConstraint(["cell_id"], ["cell.id"], ondelete="CASCADE"),
        sa.ForeignKeyConstraint(["run_id"], ["run.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index("control_waiting", "control", ["id"], unique=False, postgresql_where=sa.text("state = 'waiting'"))
    op.create_table(
        "attempt_record",
        sa.Column("attempt_id", sa.Integer(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("content", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.ForeignKeyConstraint(["attempt_id"], ["attempt.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("attempt_id", "kind"),
    )
    op.create_table(
        "cache_entry",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("scope", sa.Text(), nullable=False),
        sa.Column("job", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("key", sa.Text(), nullable=False),
        sa.Column("parts", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("attempt_id", sa.Integer(), nullable=False),
        sa.Column("kept", sa.Boolean(), server_default=sa.text("false"), nullable=False),
        sa.Column("seconds", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("digest", sa.Text(), nullable=False),
        sa.Column("size", sa.BigInteger(), nullable=False),
        sa.Column("blob", sa.Text(), nullable=False),
        sa.Column("created_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("used_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("uses", sa.Integer(), server_default="0", nullable=False),
        sa.ForeignKeyConstraint(["attempt_id"], ["attempt.id"], ondelete="CASCADE"),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
        sa.UniqueConstraint("project_id", "scope", "job", "name", "key"),
    )
    op.create_index("cache_by_use", "cache_entry", ["project_id", "used_at"], unique=False)
    op.create_index(
        "attempt_of_runner", "attempt", ["runner_id"], unique=False, postgresql_where=sa.text("state = 'running'")
    )
    op.add_column("attempt", sa.Column("log_lines", sa.BigInteger(), server_default="0", nullable=False))
    op.add_column("cell", sa.Column("rank", sa.Float(), server_default="0", nullable=False))
    op.add_column("cell", sa.Column("predicted", sa.Float(), nullable=True))
    op.drop_index(op.f("cell_waiting"), table_name="cell", postgresql_where="(state = 'waiting'::text)")
    op.create_index(
        "cell_waiting", "cell", ["rank", "id"], unique=False, postgresql_where=sa.text("state = 'waiting' AND ready")
    )
    op.create_index("cell_running", "cell", ["rank"], unique=False, postgresql_where=sa.text("state = 'running'"))
    op.add_column("log_chunk", sa.Column("packed", sa.Boolean(), server_default=sa.text("false"), nullable=False))
    op.add_column("log_chunk", sa.Column("first_line", sa.BigInteger(), server_default="0", nullable=False))
    op.add_column("log_chunk", sa.Column("lines", sa.Integer(), server_default="0", nullable=False))
    op.add_column(
        "log_chunk", sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False)
    )
    op.add_column("project", sa.Column("served", sa.Float(), server_default="0", nullable=False))
    op.add_column("runner", sa.Column("labels", postgresql.ARRAY(sa.Text()), server_default="{}", nullable=False))
    op.add_column(
        "runner", sa.Column("machine", postgresql.JSONB(astext_type=sa.Text()), server_default="{}", nullable=False)
    )
    op.add_column("runner", sa.Column("drained", sa.Text(), server_default="", nullable=False))
    op.add_column("runner", sa.Column("troubles", sa.Integer(), server_default="0", nullable=False))


def downgrade() -> None:
    op.drop_column("runner", "troubles")
    op.drop_column("runner", "drained")
    op.drop_column("runner", "machine")
    op.drop_column("runner", "labels")
    op.drop_column("project", "served")
    op.drop_column("log_chunk", "at")
    op.drop_column("log_chunk", "lines")
    op.drop_column("log_chunk", "first_line")
    op.drop_column("log_chunk", "packed")
    op.drop_index("cell_running", table_name="cell", postgresql_where=sa.text("state = 'running'"))
    op.drop_index("cell_waiting", table_name="cell", postgresql_where=sa.text("state = 'waiting' AND ready"))
    op.create_index(op.f("cell_waiting"), "cell", ["id"], unique=False, postgresql_where="(state = 'waiting'::text)")
    op.drop_column("cell", "predicted")
    op.drop_column("cell", "rank")
    op.drop_column("attempt", "log_lines")
    op.drop_index("cache_by_use", table_name="cache_entry")
    op.drop_table("cache_entry")
    op.drop_table("attempt_record")
    op.drop_index("control_waiting", table_name="control", postgresql_where=sa.text("state = 'waiting'"))
    op.drop_table("control")
    op.drop_table("usual_lines")
    op.drop_table("secret")
    op.drop_table("server_beat")
    op.drop_index("attempt_of_runner", table_name="attempt", postgresql_where=sa.text("state = 'running'"))
