"""what opens a repository is sealed, beside its address"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0006"
down_revision = "0005"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("project", sa.Column("credential", sa.LargeBinary(), nullable=True))
