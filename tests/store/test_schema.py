"""The schema: every released one is brought up with its rows, agrees with the models, and follows its own keys."""

from __future__ import annotations

import datetime
import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import alembic.command
import alembic.config
import pytest
import sqlalchemy as sa
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext
from sqlalchemy.engine import make_url

from myriant.store.engine import NewerSchema, Store
from myriant.store.tables import Base
from worlds import World

VERSIONS = Path(__file__).parents[2] / "src/myriant/store/migrations"
RELEASED = sorted(p.stem.split("_")[0] for p in (VERSIONS / "versions").glob("0*.py"))
WORDS = {
    "state": "passed",
    "verdict": "held",
    "mark": "new",
    "event": "push",
    "purpose": "push",
    "content": "tests",
    "place": "here",
    "kind": "unit",
    "context": "push main",
    "role": "viewer",
    "isolation": "sandbox",
    "what": "vanished",
    "wants": "mine",
}
STATES = {
    "delivery": "waiting",
    "control": "waiting",
    "search": "running",
    "approval": "waiting",
    "pull_request": "open",
    "batch": "done",
}
KINDS = {"token": "link", "acceptance": "start"}


@pytest.fixture
def store(world: World) -> Iterator[Store]:
    """An empty database of its own."""
    site = world.site
    url = make_url(site.store.engine.url.render_as_string(hide_password=False))
    name = f"schema_{os.getpid()}"
    owner = make_url(world.installation.database.owner_url).set(drivername=url.drivername)
    admin = sa.create_engine(owner, isolation_level="AUTOCOMMIT")
    with admin.connect() as connection:
        connection.execute(sa.text(f"DROP DATABASE IF EXISTS {name} WITH (FORCE)"))
        connection.execute(sa.text(f"CREATE DATABASE {name} OWNER {url.username}"))
    made = Store(url.set(database=name).render_as_string(hide_password=False))
    yield made
    made.close()
    with admin.connect() as connection:
        connection.execute(sa.text(f"DROP DATABASE {name} WITH (FORCE)"))
    admin.dispose()


def bring_to(store: Store, version: str) -> None:
    config = alembic.config.Config()
    config.set_main_option("script_location", str(VERSIONS))
    with store.engine.begin() as connection:
        config.attributes["connection"] = connection
        alembic.command.upgrade(config, version)


def value(table: sa.Table, column: sa.Column[Any]) -> Any:
    """Something that a column may hold."""
    if column.name == "state" and table.name in STATES:
        return STATES[table.name]
    if column.name == "kind" and table.name in KINDS:
        return KINDS[table.name]
    if column.name in WORDS and isinstance(column.type, sa.String):
        return WORDS[column.name]
    match column.type:
        case sa.Boolean():
            return True
        case sa.Integer() | sa.BigInteger() | sa.Numeric() | sa.Float():
            return 1
        case sa.Date():
            return datetime.date(2026, 11, 1)
        case sa.DateTime():
            return datetime.datetime(2026, 11, 23, tzinfo=datetime.UTC)
        case sa.LargeBinary():
            return b"\1"
        case sa.ARRAY():
            return []
        case sa.JSON():
            return {}
        case _:
            return f"{column.name} 1"[: getattr(column.type, "length", None) or 40]


def filled(connection: sa.Connection) -> dict[str, int]:
    """A row in every table, those that are pointed at first."""
    tables = sa.MetaData()
    tables.reflect(connection)
    counts = {}
    for table in tables.sorted_tables:
        if table.name.startswith(("procrastinate", "alembic")):
            continue
        row: dict[str, Any] = {}
        for column in table.columns:
            aimed = next(iter(column.foreign_keys), None)
            if aimed is not None:
                row[column.name] = None if column.nullable else connection.scalar(sa.select(aimed.column).limit(1))
            elif not column.nullable and column.server_default is None and not column.identity:
                row[column.name] = value(table, column)
        connection.execute(table.insert().values({k: v for k, v in row.items() if v is not None}))
        counts[table.name] = 1
    return counts


@pytest.mark.parametrize("version", RELEASED)
def test_each_released_schema_is_brought_up_with_its_rows_and_agrees_with_the_models(
    store: Store, version: str
) -> None:
    bring_to(store, version)
    with store.engine.begin() as connection:
        before = filled(connection)
    store.migrate()
    store.migrate()  # harmless when repeated
    with store.engine.connect() as connection:
        context = MigrationContext.configure(
            connection,
            opts={"include_object": lambda o, n, t, r, c: not (n or "").startswith("procrastinate")},
        )
        assert compare_metadata(context, Base.metadata) == []
        kept = {
            t: connection.scalar(sa.text(f'SELECT count(*) FROM "{t}"')) for t in before if t in Base.metadata.tables
        }
    assert kept == dict.fromkeys(kept, 1)


def test_a_newer_schema_is_refused_in_words(store: Store) -> None:
    store.migrate()
    with store.engine.begin() as connection:
        connection.execute(sa.text("UPDATE alembic_version SET version_num = '9999'"))
    with pytest.raises(NewerSchema, match="newer version"):
        store.migrate()


def test_every_foreign_key_has_an_index_that_begins_with_it() -> None:
    lacking = []
    for table in Base.metadata.sorted_tables:
        leading = [[c.name for c in index.columns] for index in table.indexes]
        leading.append([c.name for c in table.primary_key.columns])
        leading += [[c.name for c in u.columns] for u in table.constraints if isinstance(u, sa.UniqueConstraint)]
        for key in table.foreign_key_constraints:
            names = [c.name for c in key.columns]
            if not any(set(begins[: len(names)]) == set(names) for begins in leading):
                lacking.append(f"{table.name}({', '.join(names)})")
    assert lacking == []
