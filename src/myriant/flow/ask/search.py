"""A search as it stands, or what one would try and cost."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy.orm import Session

from myriant.core.diagnosis import search as core
from myriant.core.results.model import Outcome
from myriant.core.states import ControlState, SearchState
from myriant.flow.ask.flakes import flake_of
from myriant.flow.errors import Refused
from myriant.flow.naming import the_project, the_run
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.repos.mirror import Mirror
from myriant.store.controls import cells_with_attempts, search_for, tries_of_search
from myriant.store.results import history_of_test, outcomes_of
from myriant.store.runs import runs_numbered
from myriant.store.tables import Cell, Project, Run, Search

MOST_COMMITS = 500


MOST_AT_ONCE = 4


@dataclass(frozen=True, slots=True)
class CommitLine:
    commit: str
    title: str
    author: str
    chance: float  # of being the first bad one
    passed: int
    failed: int
    running: bool


@dataclass(frozen=True, slots=True)
class SearchView:
    """A search as it stands; before it has begun, what it would cost."""

    id: int | None
    test: int
    job: str
    key: str
    state: str  # proposed, running, found, stopped, given-up
    said: str
    tries: int
    expected: float  # tries on average
    seconds: float | None  # that they take, side by side
    at_once: int
    answer: CommitLine | None
    commits: list[CommitLine]  # oldest first


@dataclass(frozen=True, slots=True)
class _Range:
    cell: Cell
    commits: list[str]  # after the good one, up to the bad one


def propose_search(site: Site, name: str, number: int, test: int) -> SearchView:
    """What a search would try and cost; the search itself where one has begun. Raises NotFound, Refused."""
    with site.store.view() as session:
        project, run = named_run(session, name, number)
        begun = search_for(session, run.id, test)
        if begun is not None:
            return search_view(site, session, project, begun)
        found = range_of(site, session, project, run, test)
        chances = chances_of(session, project, test)
        return _proposed(site, project, found, test, chances)


def tries_of(session: Session, row: Search) -> tuple[list[core.Tried], list[int], int]:
    """Outcomes so far, places of tries under way, and how many tries gave no result."""
    controls = tries_of_search(session, row.id)
    places = {commit: i for i, commit in enumerate(row.commits)}
    done = [c for c in controls if c.state == ControlState.DONE and c.attempt_id is not None]
    outcomes = outcomes_of(session, [c.attempt_id for c in done if c.attempt_id is not None])
    tried, lost = [], sum(c.state == ControlState.GIVEN_UP for c in controls)
    for c in done:
        found = outcomes[c.attempt_id or 0]
        outcome = int(found[row.test]) if row.test < len(found) else Outcome.ABSENT
        if outcome in (Outcome.FAILED, Outcome.ERRORED):
            tried.append(core.Tried(places[c.commit], failed=True))
        elif outcome in (Outcome.PASSED, Outcome.FLAKY, Outcome.ABSENT):  # a test that is not there does not fail
            tried.append(core.Tried(places[c.commit], failed=False))
        else:
            lost += 1
    return tried, [places[c.commit] for c in controls if c.state in (ControlState.WAITING, ControlState.RUNNING)], lost


def named_run(session: Session, name: str, number: int) -> tuple[Project, Run]:
    project = the_project(session, name)
    return project, the_run(session, project, number)


def range_of(site: Site, session: Session, project: Project, run: Run, test: int) -> _Range:
    """The cell to search in, the one that ends soonest, and the commits since it last passed there."""
    commit = run.tested or run.commit
    failed = cells_with_attempts(session, run.id)
    outcomes = outcomes_of(session, [a for _, a in failed])
    cells = [
        c for c, a in failed
        if test < len(outcomes[a]) and outcomes[a][test] in (Outcome.FAILED, Outcome.ERRORED) and not c.gated
    ]  # fmt: skip
    if not cells:
        raise Refused("this test failed in no cell of this run", "choose a test that fails in it")
    past = history_of_test(session, project.id, test)
    numbers = {p.run for p in past if p.run < run.number and p.outcome is Outcome.PASSED}
    by_number = runs_numbered(session, project.id, numbers)
    mirror = site.mirror(project)
    for cell in sorted(cells, key=lambda c: (c.predicted or 60.0, c.position)):
        for number in sorted((p.run for p in past if p.cell == cell.key and p.run in by_number), reverse=True):
            commits = _commits(mirror, by_number[number].commit, commit)
            if commits:
                return _Range(cell, commits)
    raise Refused(
        "no earlier commit is known on which this test passed in one of these cells",
        "a search needs a commit that was good: test an older one by hand",
    )


def _commits(mirror: Mirror, good: str, bad: str) -> list[str]:
    if good == bad:
        return []
    try:
        if not mirror.is_ancestor(good, bad):
            return []
        return [*(c.id for c in reversed(mirror.between(good, bad, MOST_COMMITS))), bad]
    except GitError:
        return []


def chances_of(session: Session, project: Project, test: int) -> core.Chances:
    """How a try may err, from how often the test flakes."""
    told = flake_of(session, project, test)
    missed = min(max(core.MISSED, told.rate if told.odd else 0.0), 0.4)
    return core.Chances(missed, false_alarm(missed))


def false_alarm(missed: float) -> float:
    return missed if missed > core.MISSED else core.FALSE


def _proposed(site: Site, project: Project, found: _Range, test: int, chances: core.Chances) -> SearchView:
    at_once = min(MOST_AT_ONCE, max(1, len(found.commits) - 1))
    expected = core.expected_tries(len(found.commits), chances, at_once)
    seconds = expected / at_once * found.cell.predicted if found.cell.predicted else None
    lines = _lines(site, project, found.commits, [], [], chances)
    only = len(found.commits) == 1
    said = "The commit before it passed: there is nothing to search." if only else ""
    return SearchView(
        None, test, found.cell.job, found.cell.key, "found" if only else "proposed", said, 0, expected, seconds,
        at_once, lines[0] if only else None, lines,
    )  # fmt: skip


def search_view(site: Site, session: Session, project: Project, row: Search) -> SearchView:
    tried, running, _ = tries_of(session, row)
    chances = core.Chances(row.missed, false_alarm(row.missed))
    cell = session.get_one(Cell, row.cell_id)
    lines = _lines(site, project, row.commits, tried, running, chances)
    answer = lines[core.found(len(lines), tried, chances)[0]] if row.state == SearchState.FOUND else None
    expected = core.expected_tries(len(lines), chances, row.slots)
    seconds = expected / row.slots * cell.predicted if cell.predicted else None
    return SearchView(
        row.id,
        row.test,
        cell.job,
        cell.key,
        row.state,
        row.said,
        len(tried),
        expected,
        seconds,
        row.slots,
        answer,
        lines,
    )


def _lines(
    site: Site, project: Project, commits: Sequence[str], tried: Sequence[core.Tried], running: Sequence[int],
    chances: core.Chances,
) -> list[CommitLine]:  # fmt: skip
    mirror = site.mirror(project)
    chance = core.posterior(len(commits), tried, chances)
    found = []
    for at, commit in enumerate(commits):
        try:
            told = mirror.commit(commit)
            title, author = told.title, told.author
        except GitError:
            title, author = "(no longer in the repository)", ""
        found.append(
            CommitLine(
                commit, title, author, float(chance[at]), sum(t.at == at and not t.failed for t in tried),
                sum(t.at == at and t.failed for t in tried), at in running,
            )
        )  # fmt: skip
    return found
