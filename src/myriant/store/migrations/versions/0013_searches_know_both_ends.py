"""a search knows its good end, and what the test's past says of chance"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0013"
down_revision = "0012"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("search", sa.Column("good", sa.Text(), nullable=False, server_default=""))
    op.add_column("search", sa.Column("random", sa.Float(), nullable=False, server_default="0"))
    op.add_column("search", sa.Column("rate", sa.Float(), nullable=False, server_default="0"))
    op.add_column("search", sa.Column("answer", sa.Text(), nullable=False, server_default=""))
    op.drop_column("search", "missed")
