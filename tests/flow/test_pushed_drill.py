"""The drill: a gate tried with artificial failures, read at every place, and gone afterwards."""

from __future__ import annotations

import itertools
from pathlib import Path

import pytest

from myriant.flow.drill import trial as drills
from myriant.flow.errors import BadInput
from myriant.flow.who import Person
from worlds import World

STEPS = "version = 1\n[jobs.build]\n[[jobs.build.steps]]\ncommand = 'make'\n"
ADA = Person(0, "Ada Fen", "maintainer")
_names = itertools.count()


def drilled(world: World, plan: str) -> tuple[str, drills.Drill]:
    """A watched repository with a plan, and what its drill says."""
    repo = world.repository(f"drill-{next(_names)}", None)
    repo.commit({"myriant.toml": plan}, "first")
    world.http.patch(f"/projects/{repo.name}", json={"paused": True})  # nothing of it runs but the drill
    repo.push()
    site = world.site
    world.http.patch(f"/projects/{repo.name}", json={"paused": False})
    return repo.name, drills.drill(site, repo.name, ADA)


def test_a_drill_that_was_killed_is_cleared_away_and_a_plan_that_runs_nothing_is_refused(
    world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    name, _ = drilled(world, STEPS)
    site = world.site

    def killed(*_: object) -> None:
        raise KeyboardInterrupt

    monkeypatch.setattr(drills, "_steps", killed)
    monkeypatch.setattr(drills, "forget_project", lambda *_: None)
    with pytest.raises(KeyboardInterrupt):
        drills.drill(site, name, ADA)
    monkeypatch.undo()
    assert f"{name}.drill" in [p["name"] for p in world.get("/projects")]
    refused = world.http.post(f"/projects/{name}/drill")
    assert refused.status_code == 409 and "goes on" in refused.json()["detail"]
    monkeypatch.setattr(drills, "LONGEST", drills.LONGEST * 0)
    assert drills.drill(site, name, ADA).passed
    assert f"{name}.drill" not in [p["name"] for p in world.get("/projects")]
    with pytest.raises(BadInput, match="runs no cell for a push"):
        drilled(world, STEPS.replace("[jobs.build]", '[jobs.build]\nwhen = [{ tag = "v*" }]', 1))
    assert not Path("/published").exists()
