"""The logbook of printed tables, in a real database."""

import os
import subprocess

import pytest

from tidebook.stations import STATIONS
from tidebook.table import rows


def ask(statement):
    """What the database answers, as text."""
    words = ["psql", "-X", "-q", "-A", "-t", "-v", "ON_ERROR_STOP=1", "-h", "127.0.0.1", "-U", "tides", "-d", "tides"]
    done = subprocess.run(
        words + ["-p", os.environ["MYRIANT_DB_PORT"], "-c", statement],
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        universal_newlines=True,
    )
    assert done.returncode == 0, done.stdout
    return done.stdout.strip()


@pytest.fixture(scope="module", autouse=True)
def logbook():
    ask("CREATE TABLE turn (station text, day int, at text, kind text, height text, UNIQUE (station, day, at))")
    for name, station in sorted(STATIONS.items()):
        values = ", ".join("('%s', 3, '%s', '%s', '%s')" % ((name,) + row) for row in rows(station, 3))
        ask("INSERT INTO turn VALUES %s" % values)


def test_every_station_has_its_turns():
    assert ask("SELECT count(DISTINCT station) FROM turn") == str(len(STATIONS))


def test_high_and_low_waters_alternate():
    assert (
        ask(
            "SELECT count(*) FROM (SELECT kind = lag(kind) OVER (PARTITION BY station ORDER BY at) AS same FROM turn) t WHERE same"
        )
        == "0"
    )


def test_a_turn_is_entered_once():
    with pytest.raises(AssertionError, match="duplicate key"):
        ask("INSERT INTO turn SELECT * FROM turn LIMIT 1")
