"""rules that need not hold for a time, morning pages that are told, reasons of approvals, strangers, functions"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import ARRAY

revision = "0011"
down_revision = "0010"
branch_labels = None
depends_on = None


def upgrade() -> None:
    now = sa.text("now()")
    op.create_table(
        "waiver",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("project_id", sa.Integer(), sa.ForeignKey("project.id", ondelete="CASCADE"), nullable=False),
        sa.Column("rule", sa.Text(), nullable=False),
        sa.Column("context", sa.Text(), nullable=False),
        sa.Column("run", sa.Integer(), nullable=False),
        sa.Column("about", sa.Text(), nullable=False),
        sa.Column("worst", sa.Text(), nullable=False),
        sa.Column("shown", sa.Text(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column("by", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False, server_default=now),
        sa.Column("until", sa.DateTime(timezone=True), nullable=False),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("ended_why", sa.Text(), nullable=False, server_default=""),
    )
    op.create_index("waiver_of_project", "waiver", ["project_id", "rule"])
    words = ", ".join(f"'{word}'" for word in ("none", "undecided", "clear", "held", "exempt"))
    op.create_table(
        "outcome",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column("project_id", sa.Integer(), sa.ForeignKey("project.id", ondelete="CASCADE"), nullable=False),
        sa.Column("run_id", sa.Integer(), sa.ForeignKey("run.id", ondelete="CASCADE"), nullable=False),
        sa.Column("verdict", sa.Text(), nullable=False),
        sa.Column("news", sa.Text(), nullable=False),
        sa.Column("sentence", sa.Text(), nullable=False),
        sa.Column("at", sa.DateTime(timezone=True), nullable=False, server_default=now),
        sa.CheckConstraint(f"verdict IN ({words})", name="outcome_verdict_word"),
    )
    op.create_index("outcome_of_project", "outcome", ["project_id", "id"])
    op.create_index("outcome_of_run", "outcome", ["run_id"])
    for table, column in (("pull_request", "stranger"), ("project", "pull_strangers")):
        op.add_column(table, sa.Column(column, sa.Boolean(), nullable=False, server_default=sa.text("false")))
    for column in ("functions_valid", "functions_covered"):
        op.add_column("coverage_total", sa.Column(column, sa.Integer(), nullable=False, server_default="0"))
    op.drop_index("lasting_open", "lasting")
    op.execute("DELETE FROM lasting WHERE ended_at IS NOT NULL")
    op.drop_column("lasting", "ended_at")
    op.drop_column("lasting", "ended_why")
    op.add_column("lasting", sa.Column("back", ARRAY(sa.Text()), nullable=False, server_default="{}"))
    op.add_column("project", sa.Column("budget", sa.Integer(), nullable=True))
    op.add_column("pull_request", sa.Column("allowed", sa.Text(), nullable=False, server_default=""))
    op.add_column("approval", sa.Column("reason", sa.Text(), nullable=False, server_default=""))
    op.add_column("way", sa.Column("moments", ARRAY(sa.Text()), nullable=False, server_default="{}"))
    op.add_column("way", sa.Column("planned", sa.Boolean(), nullable=False, server_default=sa.text("false")))
    op.add_column("way", sa.Column("morning", sa.Text(), nullable=False, server_default=""))
    op.add_column("way", sa.Column("morning_at", sa.DateTime(timezone=True), nullable=True))
