"""Alembic's entry: runs on the connection that the caller holds."""

from __future__ import annotations

from alembic import context

from myriant.store.tables import Base

context.configure(
    connection=context.config.attributes["connection"],
    target_metadata=Base.metadata,
    include_name=lambda name, kind, parents: not (kind == "table" and (name or "").startswith("procrastinate")),
)
with context.begin_transaction():
    context.run_migrations()
