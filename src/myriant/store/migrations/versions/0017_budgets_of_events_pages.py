"""budgets of events beside a project's, and which page a way tells at its times"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects.postgresql import JSONB

revision = "0017"
down_revision = "0016"
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.add_column("project", sa.Column("event_budgets", JSONB(), nullable=False, server_default="{}"))
    op.add_column("way", sa.Column("page", sa.Text(), nullable=False, server_default="morning"))
    op.create_check_constraint("way_page_word", "way", "page IN ('morning', 'report')")
