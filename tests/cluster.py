"""PostgreSQL for tests in process: one cluster a test process, a copy of one whose tables are made once."""

from __future__ import annotations

import atexit
import fcntl
import hashlib
import os
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from itertools import count
from pathlib import Path

import psycopg

from myriant.cli.database import Database
from myriant.store.engine import Store

MIGRATIONS = Path(__file__).parent.parent / "src/myriant/store/migrations"
QUICK = ("fsync=off", "synchronous_commit=off", "full_page_writes=off", "shared_buffers=64MB", "autovacuum=off")
_names = count(1)


class Cluster(Database):
    """A database server that need not survive anything: nothing waits for the disk."""

    def words(self, cluster: Path, programs: Path) -> list[str]:
        return [*super().words(cluster, programs), *(w for setting in QUICK for w in ("-c", setting))]


@cache
def cluster() -> Cluster:
    """This process's cluster, running until it ends; its database `myriant` has every table and no row."""
    folder = Path(tempfile.mkdtemp(prefix="myriant-cluster-"))
    folder.chmod(0o755)
    made = _template()
    subprocess.run(["cp", "-a", str(made), str(folder / "postgres")], check=True)
    found = Cluster(folder / "postgres")

    def end() -> None:
        found.stop()
        shutil.rmtree(folder, ignore_errors=True)

    atexit.register(end)
    found.start()
    return found


def _template() -> Path:
    """A stopped cluster with today's tables, made when the migrations have changed."""
    source = hashlib.sha256()
    for path in sorted(MIGRATIONS.rglob("*.py")):
        source.update(path.read_bytes())
    where = Path(tempfile.gettempdir()) / f"myriant-template-{source.hexdigest()[:16]}-{os.getuid()}"
    with where.with_suffix(".lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if (where / "made").exists():
            return where
        shutil.rmtree(where, ignore_errors=True)
        database = Cluster(where)
        database.start()
        store = Store(database.url)
        store.migrate()
        store.close()
        database.stop()
        (where / "made").touch()
    return where


@contextmanager
def own_database() -> Iterator[str]:
    """The address of a database with every table and no row, removed afterwards."""
    server, name = cluster(), f"story_{next(_names)}"
    with psycopg.connect(server.owner_url.removesuffix("myriant") + "postgres", autocommit=True) as owner:
        owner.execute(f"CREATE DATABASE {name} TEMPLATE myriant OWNER myriant_server")
    try:
        yield server.url.removesuffix("myriant") + name
    finally:
        with psycopg.connect(server.owner_url.removesuffix("myriant") + "postgres", autocommit=True) as owner:
            owner.execute(f"DROP DATABASE {name} WITH (FORCE)")
