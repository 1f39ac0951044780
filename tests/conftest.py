"""What every test run begins with: how draws are made, the order of tests, the one real installation."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

from worlds import HERE, World, one_installation

# How long a draw takes says how busy the machine is, nothing of what is tested.
settings.register_profile(
    "ours",
    deadline=None,
    max_examples=int(os.environ.get("MYRIANT_EXAMPLES", "50")),
    suppress_health_check=[HealthCheck.too_slow],
)
settings.load_profile("ours")
os.environ["GIT_CONFIG_NOSYSTEM"] = "1"  # what is set up on this machine for its people is no part of any test
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # programs that are compiled anew at each start take a quarter longer
os.environ["GIT_CONFIG_GLOBAL"] = str(Path(__file__).parent / "gitconfig")
ROOMS = ("flow", "e2e", "stories", "cli", "adversary", "api", "runner", "store", "repos", "core")  # the longest first
LONG = (
    "test_browser",
    "test_places",
    "test_screens",
    "test_execution",
    "test_trust",
    "test_telling",
    "test_workbench",
    "test_demo",
    "test_diagnosis_screens",
    "test_fleet",
    "test_pushed",
    "test_drill",
    "test_campaign",
)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """What takes long begins first, so that the workers end together; core's many quick tests fill what is left.

    Workers know tests by their ids: of several with one id they would run one, and say that all passed.
    """
    twice = [nodeid for nodeid, times in Counter(item.nodeid for item in items).items() if times > 1]
    if twice:
        raise pytest.UsageError(f"tests of one id, of which one would run: {twice[:3]}")

    def turn(item: pytest.Item) -> tuple[int, int]:
        stem = item.path.stem
        room = item.path.parent.relative_to(HERE).parts[0]
        return LONG.index(stem) if stem in LONG else len(LONG), ROOMS.index(room)

    items.sort(key=turn)


@pytest.fixture(scope="session")
def world() -> Iterator[World]:
    # hooks ring; to look at every repository again and again is most of a worker
    os.environ["MYRIANT_POLL_SECONDS"] = "60"
    os.environ["MYRIANT_FREE_REFUSALS"] = "100000"
    os.environ["MYRIANT_HEAD_SECONDS"] = "4"
    os.environ["MYRIANT_MOST_LOG_BYTES"] = str(2_000_000)
    os.environ["MYRIANT_MOST_CACHE_BYTES"] = str(60_000)
    with one_installation("myriant-tests-") as world:
        yield world
