"""words of accounts, tokens, acceptances and deliveries are held by the database"""

from __future__ import annotations

from alembic import op

revision = "0018"
down_revision = "0017"
branch_labels = None
depends_on = None

WORDS = (
    ("account", "role", ("viewer", "member", "maintainer", "admin")),
    ("token", "kind", ("link", "session", "command", "runner", "hook")),
    ("acceptance", "kind", ("loosened", "vanished", "newly-skipped", "start")),
    ("lasting", "what", ("vanished", "newly-skipped")),
    ("delivery", "state", ("waiting", "sent", "kept", "aside", "unwanted")),
)


def upgrade() -> None:
    for table, column, words in WORDS:
        told = ", ".join(f"'{w}'" for w in words)
        op.create_check_constraint(f"{table}_{column}_word", table, f"{column} IN ({told})")
