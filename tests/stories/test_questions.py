"""No question is asked again for each row: the statements of an answer do not grow with what it holds."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Callable
from functools import partial

import pytest
from sqlalchemy import event, select, text

from asking import statements
from myriant.flow.site import Site
from myriant.flow.views.desk.page import desk_view
from myriant.flow.views.desk.projects import project_lines
from myriant.flow.views.findings.answer import findings_of
from myriant.flow.views.pulls.page import pulls_of
from myriant.flow.views.run.page import run_view
from myriant.flow.views.run.verdicts import word_of_commit
from myriant.flow.views.strip import strip_of
from myriant.flow.views.trends.page import trends_of
from myriant.store.tables import Project, Run
from worlds import PLAN, World, junit, stored_project, writes


@pytest.mark.parametrize("ask", [desk_view, project_lines])
def test_more_projects_are_no_more_questions(world: World, ask: Callable[[Site], object]) -> None:
    site = world.site
    stored_project(site.store, 3, 2)
    few = Counter(statements(site, partial(ask, site)))
    for _ in range(6):
        stored_project(site.store, 3, 2)
    many = Counter(statements(site, partial(ask, site)))
    # What else this world holds goes on meanwhile, so a question may come or go; none is asked for each project.
    assert not {asked: times for asked, times in many.items() if times > max(few[asked], 1)}


@pytest.mark.parametrize("at", [1, 2, 3, 4])
def test_an_answer_is_of_one_moment(world: World, at: int) -> None:
    """Another run of the commit is judged while something is answered: what was said before is said, whole."""
    site = world.site
    project, _ = stored_project(site.store, 3, 2)
    with site.store.transaction() as session:
        name = session.get_one(Project, project).name
        of = session.scalars(select(Run).where(Run.project_id == project, Run.number == 3)).one()
    for number, ask in enumerate(
        (
            lambda: word_of_commit(site, of.commit, name),
            lambda: strip_of(site, name, None, None, 100),
            lambda: [line for line in project_lines(site) if line.name == name],
            lambda: next(p for p in desk_view(site).projects if p.project.name == name),
        )
    ):
        before, asked = ask(), 0

        def meanwhile(*_: object, number: int = number) -> None:
            nonlocal asked
            asked += 1
            if asked == at:
                with site.store.transaction() as session:
                    of_it = {"number": 4 + number, "context": "push main", "branch": "main", "commit": of.commit}
                    judged = {"state": "failed", "verdict": "held", "sentence": "Held: it failed", "depth": 4 + number}
                    session.add(Run(project_id=project, event="push", **of_it, **judged))

        event.listen(site.store.engine, "after_cursor_execute", meanwhile)
        try:
            assert ask() == before
        finally:
            event.remove(site.store.engine, "after_cursor_execute", meanwhile)
        assert asked < at or ask() != before


def test_more_runs_cells_and_failures_are_no_more_questions(world: World) -> None:
    site = world.site
    names = []
    for runs, cells in ((2, 2), (12, 9)):
        project, _ = stored_project(site.store, runs, cells)
        with site.store.transaction() as session:
            names.append(session.scalar(text("SELECT name FROM project WHERE id = :id"), {"id": project}))
    for ask in (
        lambda name: run_view(site, name, 2),
        lambda name: strip_of(site, name, None, None, 100),
        lambda name: trends_of(site, name, None, 100),
        lambda name: pulls_of(site, name),
    ):
        small, large = (len(statements(site, partial(ask, name))) for name in names)
        assert small == large
    asked = []
    for width in (1, 5):
        bad = {f"t{i}": f"fault {'abcdefgh'[i]}" for i in range(width)}
        repo = world.repository(f"wide-{width}", PLAN, test__sh=writes(junit(**dict.fromkeys(bad, "passed"))))
        run = repo.pushed({"test.sh": writes(junit(**bad), status=1)})["run"]["number"]
        while any(
            c["state"] in ("waiting", "running") for c in world.get(f"/projects/{repo.name}/runs/{run}")["controls"]
        ):
            time.sleep(0.2)  # what they show is asked for as well
        ask = partial(findings_of, site, repo.name, run, run - 1)
        ask()  # the plan is read once
        asked.append(len(statements(site, ask)))
        assert len(repo.findings({"run": {"number": run}})["findings"]) >= width
    assert asked[0] == asked[1]
