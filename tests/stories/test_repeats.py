"""What is repeated, how often, and what is said of it: control runs, searches side by side, chance over many runs."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pytest
from sqlalchemy import func, select

from myriant.core.diagnosis.chance import flat, judged
from myriant.core.results.identity import Identity
from myriant.core.results.model import Outcome
from myriant.flow.actions.repeating import repeat_controls
from myriant.flow.diagnose.controls import lone
from myriant.flow.diagnose.flakes import flakes_of
from myriant.store.results import NotPassed, keep_results
from myriant.store.results import test_numbers as numbers_of
from myriant.store.tables import Attempt, Cell, Control, Project
from waiting import until
from worlds import PLAN, Repository, World, junit, stored_project, writes

ONE = PLAN.replace('["5.1", "5.4"]', '["5.1"]')
KEYED = ONE.replace('runtime = ["lua"]', 'runtime = ["lua"]\nsecrets = ["TIDE_KEY"]')
GREEN = junit(a="passed", b="passed")


def searched(world: World, repo: Repository, run: dict[str, Any], *tests: int) -> list[dict[str, Any]]:
    """The answers of searches that began together."""
    paths = [f"/projects/{repo.name}/runs/{run['run']['number']}/tests/{test}/search" for test in tests]
    for path in paths:
        assert world.http.post(path).status_code == 200
    return [until(lambda p=path: world.get(p), lambda s: s["state"] != "running") for path in paths]  # type: ignore[misc]


def test_what_changed_outside_is_no_commits_fault(world: World) -> None:
    repo = world.repository("outside", None)

    def set_key(value: str) -> None:
        path = f"/projects/{repo.name}/secrets/TIDE_KEY"
        assert world.http.put(path, json={"value": value}).status_code == 204

    set_key("high-water")
    good, bad = writes(GREEN), writes(junit(a="expected high, got low", b="passed"))
    script = f'if [ "$TIDE_KEY" = high-water ]; then\n(\n{good})\nelse\n(\n{bad})\nfi\n'
    assert repo.pushed({"myriant.toml": KEYED, "test.sh": script})["run"]["verdict"] == "clear"
    set_key("low-water")
    for number in range(4):
        repo.commit({"n.txt": str(number)}, f"commit {number}")
    repo.push()
    run = repo.run_of(repo.git("rev-parse", "HEAD").strip())
    [finding] = until(lambda: repo.findings(run)["findings"], lambda f: f[0]["control"] == "world")
    told = finding["repeated"]
    assert told["here_failed"] >= 1 and told["baseline_failed"] >= 1 and not told["here_passed"]
    [answer] = searched(world, repo, run, finding["tests"][0]["test"])
    assert answer["state"] == "found" and answer["answer"] is None
    assert answer["said"].startswith("none of these commits: it fails today on"), answer["said"]


def test_a_test_that_the_baseline_does_not_have_is_repeated_here_and_no_change_blamed(world: World) -> None:
    repo = world.repository("no-past", ONE, **{"test.sh": writes(GREEN)})
    run = repo.pushed({"test.sh": writes(junit(a="passed", b="passed", c="expected 1, got 2"))})
    [finding] = until(
        lambda: repo.findings(run)["findings"], lambda f: (f[0]["repeated"] or {}).get("here_failed") == 4
    )
    assert finding["control"] == "unsure" and not finding["repeated"]["here_passed"], finding["repeated"]
    assert finding["repeated"]["baseline_absent"] and not finding["repeated"]["baseline_passed"]
    states = {c["state"] for c in world.get(f"/projects/{repo.name}/runs/2")["controls"]}
    assert states == {"done"}, "and no longer"


def test_a_search_takes_no_commit_for_good_that_has_no_such_test(world: World) -> None:
    """The test is away for a while and comes back broken: any of those commits may have broken it."""
    repo = world.repository("away", ONE, **{"test.sh": writes(GREEN)})
    for number, red in enumerate((None, None, "expected 1, got 2", "expected 1, got 2")):
        tests = {"b": "passed"} if red is None else {"a": red, "b": "passed"}
        repo.commit({"test.sh": writes(junit(**tests)), "n": str(number)}, f"commit {number}")
    repo.push()
    run = repo.run_of(repo.git("rev-parse", "HEAD").strip())
    [finding] = repo.findings(run)["findings"]
    [answer] = searched(world, repo, run, finding["tests"][0]["test"])
    assert answer["answer"] is None and answer["state"] != "found", answer["said"]


def test_what_one_version_breaks_in_several_ways_is_one_cause(world: World) -> None:
    repo = world.repository(
        "one-version", PLAN.replace('["5.1", "5.4"]', '["5.1", "5.2", "5.4"]'), **{"test.sh": writes(GREEN)}
    )
    bad = writes(junit(a="expected 1, got 2", b="expected low, got high"))
    script = f'if [ "$MYRIANT_CELL_LUA" = 5.1 ]; then\n(\n{bad})\nelse\n(\n{writes(GREEN)})\nfi\n'
    [one] = repo.findings(repo.pushed({"test.sh": script}))["findings"]
    assert len(one["tests"]) == 2 and one["because"] == "they are of one file and fail in just the same cells"
    alone = writes(junit(a="passed", b="passed", fresh="expected 1, got 2"))  # a test that the other cells have not
    only = script.replace(bad, alone)
    [new] = repo.findings(repo.pushed({"test.sh": only}))["findings"]
    assert len(new["tests"]) == 1 and new["ran_in"] == 1
    two = repo.findings(repo.pushed({"test.sh": bad}))["findings"]  # in every cell: two causes may reach as far
    assert sorted(len(f["tests"]) for f in two) == [1, 1]


LUCK = np.random.default_rng(5)
PASTS: list[tuple[str, Callable[[int, int], bool], bool, int | None, str]] = [
    ("never", lambda run, cell: False, False, None, ""),
    ("always since a run", lambda run, cell: run >= 20, False, None, ""),
    ("at times", lambda run, cell: bool(LUCK.random() < 0.2), True, None, ""),
    ("at times since a run", lambda run, cell: run >= 20 and bool(LUCK.random() < 0.5), True, 20, ""),
    ("at times in one cell", lambda run, cell: cell == 2 and bool(LUCK.random() < 0.4), True, None, "n=2"),
]


def test_chance_is_told_from_all_results_of_the_newest_runs(world: World) -> None:
    site = world.site
    owner, attempts = stored_project(site.store, runs=40, cells=4)
    drawn = [[[bad(run, cell) for cell in range(4)] for run in range(1, 41)] for _, bad, *_ in PASTS]
    tests: list[Identity] = [("unit", "", "", name) for name, *_ in PASTS]
    with site.store.transaction() as session:
        name = session.get_one(Project, owner).name
        numbers = numbers_of(session, owner, "unit", tests)
        for at, attempt in enumerate(attempts):
            run, cell = divmod(at, 4)
            failed = [told[run][cell] for told in drawn]
            outcomes = np.array([Outcome.FAILED if f else Outcome.PASSED for f in failed], np.uint8)
            bad = [NotPassed(int(n), Outcome.FAILED, "m", "", None) for n, f in zip(numbers, failed, strict=True) if f]
            keep_results(session, attempt, numbers, outcomes, np.full(len(tests), 0.1), bad)
        hours = session.scalars(
            select(func.extract("hour", func.timezone("UTC", Attempt.created_at))).where(Attempt.id == attempts[0])
        ).one()
    seen = {f.title: f for f in flakes_of(site, name).tests}
    for (title, _, flaky, since, only), told in zip(PASTS, drawn, strict=True):
        rows = [(r, r, c, told[r][c], True, 0, int(hours)) for r in range(40) for c in range(4)]
        truth = judged(flat(rows), [{"n": str(c)} for c in range(4)], [""])
        assert (truth.flaky, truth.only if flaky else "") == (flaky, only), (title, truth)
        if title not in seen:
            assert not flaky, title
            continue
        view = seen[title]
        assert (view.flaky, view.rate, view.low, view.high) == (truth.flaky, truth.rate, truth.low, truth.high), title
        assert view.odd == (truth.odd if truth.now else 0) and view.tries == truth.tries
        assert view.since is None if since is None else abs((view.since or 0) - since) <= 2, (title, view.since)
        assert view.proposed == flaky


@pytest.mark.parametrize("place", ["here", "baseline"])
def test_of_a_run_that_is_not_held_nothing_is_repeated(world: World, place: str) -> None:
    site = world.site
    _, [attempt] = stored_project(site.store)
    with site.store.transaction() as session:
        cell = session.scalars(select(Cell).where(Cell.attempt_id == attempt)).one()
        session.add(
            Control(run_id=cell.run_id, cell_id=cell.id, place=place, commit="1" * 40, state="done", attempt_id=attempt)
        )
        run = cell.run_id
    repeat_controls(site, run)
    with site.store.transaction() as session:
        assert session.scalar(select(func.count()).select_from(Control).where(Control.run_id == run)) == 1


@pytest.mark.parametrize(
    ("places", "begins"), [([], []), ([3], [3]), ([3, 4], [3]), ([3, 4, 5], []), ([1, 3, 5, 6, 7, 9], [1, 3, 9])]
)
def test_a_failure_is_lone_where_it_is_soon_well_again(places: list[int], begins: list[int]) -> None:
    assert lone(places) == begins
