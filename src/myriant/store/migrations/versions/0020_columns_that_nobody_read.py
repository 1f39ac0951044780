"""columns that nobody read"""

from __future__ import annotations

from alembic import op

revision = "0020"
down_revision = "0019"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.drop_column("run", "authored_at")
    op.drop_column("project", "plan_by")
    op.drop_column("project", "plan_at")
