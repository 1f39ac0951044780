"""how long logs and files are kept"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0009"
down_revision = "0008"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("project", sa.Column("keep_days", sa.Integer(), nullable=True))
    op.add_column("attempt", sa.Column("pruned_at", sa.DateTime(timezone=True), nullable=True))
