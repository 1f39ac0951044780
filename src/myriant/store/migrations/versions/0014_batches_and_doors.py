"""pull requests tested together, doors to other hosts, gates that are tried by schedule"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import ARRAY, JSONB

revision = "0014"
down_revision = "0013"
branch_labels = None
depends_on = None


def upgrade() -> None:
    moment = sa.DateTime(timezone=True)
    op.create_table(
        "batch",
        sa.Column("id", sa.Integer(), primary_key=True),
        sa.Column("project_id", sa.Integer(), sa.ForeignKey("project.id", ondelete="CASCADE"), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("target", sa.Text(), nullable=False),
        sa.Column("base", sa.Text(), nullable=False),
        sa.Column("asked", JSONB(), nullable=False),
        sa.Column("stack", JSONB(), nullable=False, server_default="[]"),
        sa.Column("out", JSONB(), nullable=False, server_default="[]"),
        sa.Column("again", ARRAY(sa.Integer()), nullable=False, server_default="{}"),
        sa.Column("merge", sa.Boolean(), nullable=False, server_default=sa.text("false")),
        sa.Column("merged", sa.Text(), nullable=False, server_default=""),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("said", sa.Text(), nullable=False, server_default=""),
        sa.Column("by", sa.Text(), nullable=False),
        sa.Column("at", moment, nullable=False, server_default=sa.text("now()")),
        sa.Column("ended_at", moment, nullable=True),
        sa.UniqueConstraint("project_id", "number"),
        sa.CheckConstraint("state IN ('testing', 'done', 'stopped')", name="batch_state_word"),
    )
    op.create_index("batch_open", "batch", ["project_id"], postgresql_where=sa.text("state = 'testing'"))
    op.add_column("run", sa.Column("batch_id", sa.Integer(), sa.ForeignKey("batch.id", ondelete="SET NULL")))
    op.create_index("run_of_batch", "run", ["batch_id"])
    op.add_column("way", sa.Column("events", ARRAY(sa.Text()), nullable=False, server_default="{}"))
    for column in ("pull_refresh", "drill_words"):
        op.add_column("project", sa.Column(column, sa.Text(), nullable=False, server_default=""))
    for column in ("pull_refresh_at", "drill_at", "drilled_at"):
        op.add_column("project", sa.Column(column, moment))
    for column in ("drilled", "foreign_events"):
        op.add_column("project", sa.Column(column, JSONB(), nullable=False, server_default="{}"))
    op.add_column("project", sa.Column("stranger_minutes", sa.Integer()))
    op.add_column("project", sa.Column("foreign_secret", sa.LargeBinary()))
    _vectors_once()


def _vectors_once() -> None:
    """Coverage of files is kept once for a project: equal vectors of cells and runs are the same row."""
    op.create_table(
        "coverage_vector",
        sa.Column("project_id", sa.Integer(), sa.ForeignKey("project.id", ondelete="CASCADE"), primary_key=True),
        sa.Column("digest", sa.LargeBinary(), primary_key=True),
        sa.Column("packed", sa.LargeBinary(), nullable=False),
    )
    op.add_column("coverage_file", sa.Column("digest", sa.LargeBinary()))
    op.execute("UPDATE coverage_file SET digest = sha256(packed)")
    op.execute(
        "INSERT INTO coverage_vector (project_id, digest, packed) SELECT DISTINCT ON (f.project_id, c.digest) "
        "f.project_id, c.digest, c.packed FROM coverage_file c JOIN source_file f ON f.id = c.file_id"
    )
    op.alter_column("coverage_file", "digest", nullable=False)
    op.drop_column("coverage_file", "packed")
    op.create_index("coverage_file_of_vector", "coverage_file", ["digest"])
    for column in ("lines_valid", "lines_covered"):
        op.add_column("coverage_file", sa.Column(column, sa.Integer()))
