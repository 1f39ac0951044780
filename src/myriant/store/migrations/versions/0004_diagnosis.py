"""diagnosis"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

revision = "0004"
down_revision = "0003"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "kind_rule",
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("by", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("project_id"),
    )
    op.create_table(
        "moved_test",
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("now", sa.Integer(), nullable=False),
        sa.Column("before", sa.Integer(), nullable=False),
        sa.Column("run", sa.Integer(), nullable=False),
        sa.Column("because", sa.Text(), nullable=False),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("project_id", "now"),
    )
    op.create_table(
        "quarantine",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("test", sa.Integer(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column("owner", sa.Text(), nullable=False),
        sa.Column("by", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.Column("until", sa.DateTime(timezone=True), nullable=False),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("ended_why", sa.Text(), server_default="", nullable=False),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_index(
        "quarantine_open", "quarantine", ["project_id"], unique=False, postgresql_where=sa.text("ended_at IS NULL")
    )
    op.create_table(
        "sending",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("project_id", sa.Integer(), nullable=False),
        sa.Column("told", postgresql.JSONB(astext_type=sa.Text()), nullable=False),
        sa.Column("run", sa.Integer(), nullable=True),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(["project_id"], ["project.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "search",
        sa.Column("id", sa.Integer(), nullable=False),
        sa.Column("run_id", sa.Integer(), nullable=False),
        sa.Column("cell_id", sa.Integer(), nullable=False),
        sa.Column("test", sa.Integer(), nullable=False),
        sa.Column("commits", postgresql.ARRAY(sa.Text()), nullable=False),
        sa.Column("slots", sa.Integer(), nullable=False),
        sa.Column("missed", sa.Float(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("said", sa.Text(), server_default="", nullable=False),
        sa.Column("by", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False),
        sa.ForeignKeyConstraint(["cell_id"], ["cell.id"], ondelete="CASCADE"),
        sa.ForeignKeyConstraint(["run_id"], ["run.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("id"),
    )
    op.create_table(
        "analysis_result",
        sa.Column("attempt_id", sa.Integer(), nullable=False),
        sa.Column("key", sa.Text(), nullable=False),
        sa.Column("tool", sa.Text(), nullable=False),
        sa.Column("rule", sa.Text(), nullable=False),
        sa.Column("level", sa.Text(), nullable=False),
        sa.Column("path", sa.Text(), nullable=False),
        sa.Column("line", sa.Integer(), nullable=False),
        sa.Column("message", sa.Text(), nullable=False),
        sa.Column("about", sa.Text(), nullable=False),
        sa.Column("suppressed", sa.Boolean(), nullable=False),
        sa.Column("related", postgresql.JSONB(astext_type=sa.Text()), server_default="[]", nullable=False),
        sa.ForeignKeyConstraint(["attempt_id"], ["attempt.id"], ondelete="CASCADE"),
        sa.PrimaryKeyConstraint("attempt_id", "key"),
    )
    op.add_column("control", sa.Column("search_id", sa.Integer(), nullable=True))
    op.create_foreign_key("control_search_id_fkey", "control", "search", ["search_id"], ["id"], ondelete="CASCADE")
    op.add_column("failure", sa.Column("signature", sa.Text(), server_default="", nullable=False))
    op.add_column(
        "failure", sa.Column("extra", postgresql.JSONB(astext_type=sa.Text()), server_default="{}", nullable=False)
    )
    op.create_index(
        "failure_of_signature", "failure", ["signature"], unique=False, postgresql_where=sa.text("signature <> ''")
    )
    op.create_index("failure_of_test", "failure", ["test"], unique=False)
    op.add_column(
        "test",
        sa.Column(
            "words",
            sa.Text(),
            sa.Computed("lower(suite || ' ' || class || ' ' || name)", persisted=True),
            nullable=False,
        ),
    )


def downgrade() -> None:
    op.drop_column("test", "words")
    op.drop_index("failure_of_test", table_name="failure")
    op.drop_index("failure_of_signature", table_name="failure", postgresql_where=sa.text("signature <> ''"))
    op.drop_column("failure", "extra")
    op.drop_column("failure", "signature")
    # WARNING: constraint name is None; this directive will fail as
    # rendered.  Add a name, or use a naming convention; see
    # https://alembic.sqlalchemy.org/en/latest/naming.html
    op.drop_constraint("control_search_id_fkey", "control", type_="foreignkey")
    op.drop_column("control", "search_id")
    op.drop_table("analysis_result")
    op.drop_table("search")
    op.drop_table("sending")
    op.drop_index("quarantine_open", table_name="quarantine", postgresql_where=sa.text("ended_at IS NULL"))
    op.drop_table("quarantine")
    op.drop_table("moved_test")
    op.drop_table("kind_rule")
