"""the time in which nothing of a run ran, between a verdict and what was run again"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("run", sa.Column("rested", sa.Float(), nullable=False, server_default="0"))
