"""proof that releases arrived, how people hear of news, artifacts that other projects take"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0015"
down_revision = "0014"
branch_labels = None
depends_on = None


def upgrade() -> None:
    moment = sa.DateTime(timezone=True)
    op.add_column("attempt", sa.Column("proof", JSONB()))
    op.add_column("run", sa.Column("taken", JSONB(), nullable=False, server_default="[]"))
    op.add_column("cell", sa.Column("housekeeping", sa.Boolean(), nullable=False, server_default=sa.text("false")))
    op.create_index("cell_housekeeping", "cell", ["run_id"], postgresql_where=sa.text("housekeeping"))
    op.create_table(
        "hearer",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("project_id", sa.Integer(), sa.ForeignKey("project.id", ondelete="CASCADE"), nullable=False),
        sa.Column("address", sa.Text(), nullable=False),
        sa.Column("wants", sa.Text(), nullable=False),
        sa.Column("quiet", sa.Text(), nullable=False, server_default=""),
        sa.Column("gathered", sa.Text(), nullable=False, server_default=""),
        sa.Column("by", sa.Text(), nullable=False),
        sa.Column("at", moment, nullable=False, server_default=sa.text("now()")),
        sa.UniqueConstraint("project_id", "address"),
        sa.CheckConstraint("wants IN ('all', 'mine', 'nothing')", name="hearer_wants_word"),
    )
    op.create_table(
        "kept_news",
        sa.Column("id", sa.BigInteger(), primary_key=True),
        sa.Column("project_id", sa.Integer(), sa.ForeignKey("project.id", ondelete="CASCADE"), nullable=False),
        sa.Column("address", sa.Text(), nullable=False),
        sa.Column("delivery_id", sa.BigInteger(), sa.ForeignKey("delivery.id", ondelete="CASCADE"), nullable=False),
        sa.Column("due_at", moment, nullable=False),
        sa.Column("told_in", sa.BigInteger()),
        sa.UniqueConstraint("delivery_id", "address"),
    )
    op.create_index("kept_news_due", "kept_news", ["due_at"], postgresql_where=sa.text("told_in IS NULL"))
    op.create_index("kept_news_of_project", "kept_news", ["project_id"])
