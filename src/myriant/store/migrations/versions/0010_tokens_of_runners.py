"""a token for each runner, and the projects whose cells it is given"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import ARRAY

revision = "0010"
down_revision = "0009"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("token", sa.Column("runner", sa.Text(), nullable=True))
    op.add_column("token", sa.Column("projects", ARRAY(sa.Integer()), nullable=True))
    op.add_column("token", sa.Column("used_at", sa.DateTime(timezone=True), nullable=True))
    op.create_index("token_of_runner", "token", ["runner"], unique=True, postgresql_where=sa.text("runner IS NOT NULL"))
    op.add_column("runner", sa.Column("projects", ARRAY(sa.Integer()), nullable=True))
