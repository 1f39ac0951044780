"""Upkeep: each task by itself, by one worker at a time."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import psycopg
import pytest
from sqlalchemy.exc import OperationalError

from inprocess import Stories
from myriant.flow.site import Site
from myriant.flow.upkeep.timekeeping import UPKEEP, Timekeeper, Upkeep, keep_time
from myriant.store.engine import only_one
from worlds import PLAN, junit, writes


def test_a_task_that_fails_keeps_no_other_from_its_work_and_is_named(world: Stories) -> None:
    done: list[str] = []

    def fails(site: Site, now: datetime) -> None:
        raise ValueError("adrift")

    def meets(site: Site, now: datetime) -> None:
        raise OperationalError("", {}, psycopg.errors.DeadlockDetected())

    tasks = (
        Upkeep("fails", 1, fails),
        Upkeep("meets another", 1, meets),
        Upkeep("works", 1, lambda site, now: done.append("works")),
    )
    assert keep_time(world.site, tasks=tasks) == ["fails", "meets another"]
    assert done == ["works"]


def test_what_another_worker_does_just_now_is_left_to_it(world: Stories) -> None:
    done: list[str] = []
    task = Upkeep("shared", 1, lambda site, now: done.append("here"))
    with only_one(world.site.store, "shared") as mine, only_one(world.site.store, "another") as other:
        assert mine and other
        assert keep_time(world.site, tasks=(task,)) == [] and done == []
    keep_time(world.site, tasks=(task,))
    assert done == ["here"]


def test_upkeep_is_due_at_once_and_then_by_its_interval(monkeypatch: pytest.MonkeyPatch) -> None:
    now = [100.0]
    monkeypatch.setattr("myriant.flow.upkeep.timekeeping.time.monotonic", lambda: now[0])
    keeper = Timekeeper()
    assert keeper.due() == list(UPKEEP) and keeper.due() == []
    now[0] += 10.5
    assert {task.seconds for task in keeper.due()} == {5, 10}
    assert len({task.name for task in UPKEEP}) == len(UPKEEP)


def test_a_schedule_whose_project_cannot_start_it_keeps_no_other_from_starting(world: Stories) -> None:
    nightly = '[[events.schedule]]\nname = "nightly"\nevery = "day"\nat = "02:20"\n[jobs.unit]'
    plan = PLAN.replace("[jobs.unit]", nightly, 1)
    repos = [world.repository(f"night-{i}", plan, test__sh=writes(junit(a="passed"))) for i in range(2)]
    with world.site.store.transaction() as session:  # its counter leads to a number that is taken
        session.connection().exec_driver_sql("UPDATE project SET next_number = 1 WHERE name = 'night-0'")
    keep_time(world.site, datetime.now(UTC) + timedelta(days=1))
    world.settle()
    events = [[r["event"] for r in world.get(f"/projects/{r.name}/runs")["runs"]] for r in repos]
    assert events == [["push"], ["schedule", "push"]]


def test_where_the_database_is_away_nothing_else_is_tried(world: Stories) -> None:
    done: list[str] = []

    def away(site: Site, now: datetime) -> None:
        raise OperationalError("", {}, psycopg.OperationalError())

    tasks = (Upkeep("away", 1, away), Upkeep("works", 1, lambda site, now: done.append("works")))
    with pytest.raises(OperationalError):
        keep_time(world.site, tasks=tasks)
    assert done == []
