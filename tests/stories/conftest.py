"""Stories are told in process: each module has a database of its own, and nobody waits."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

import waiting
from inprocess import Clock, Stories, one_story_world


@pytest.fixture(scope="module")
def world() -> Iterator[Stories]:
    yield from one_story_world()


@pytest.fixture(autouse=True)
def clock(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> None:
    if "world" in request.fixturenames:
        clock = Clock(request.getfixturevalue("world"))
        monkeypatch.setattr(request.module, "time", clock, raising=False)
        monkeypatch.setattr(waiting, "time", clock)
