"""A search as it stands, or what one would try and cost."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy.orm import Session

from myriant.core.diagnosis import search as core
from myriant.core.results.model import Outcome
from myriant.core.states import SearchState
from myriant.flow.diagnose.flakes import RUNS
from myriant.flow.diagnose.flakes import chances_of as chances_of_tests
from myriant.flow.errors import Refused
from myriant.flow.naming import the_project, the_run
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.repos.mirror import Mirror
from myriant.store.chance import answers_in_cell, attempts_with_result
from myriant.store.controls import cells_with_attempts, lost_tries, searches_for, tries_under_way
from myriant.store.results import history_of_test, outcomes_of, signatures_of_test
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
class Range:
    """Commits in question, and the cell in which they are tried."""

    cell: Cell
    good: str
    commits: list[str]  # after the good one, up to the bad one


def propose_search(site: Site, name: str, number: int, test: int, finding: str = "") -> SearchView:
    """What a search would try and cost; the search itself where one has begun. Raises NotFound, Refused."""
    with site.store.view() as session:
        project, run = named_run(session, name, number)
        begun = begun_search(session, run, test, finding)
        if begun is not None:
            return search_view(site, session, project, begun)
        found = range_of(site, session, project, run, test, finding)
        chances = chances_of(session, project, found, run, test)
        return _proposed(site, project, found, test, chances)


@dataclass(frozen=True, slots=True)
class Known:
    """What is known of a search's commits, from whatever ran them in its cell."""

    tried: list[core.Tried]
    running: list[int]  # places
    lost: int  # tries that gave no result of the test

    @property
    def today(self) -> int:
        return sum(t.today for t in self.tried)


def known_of(session: Session, row: Search) -> Known:
    """Outcomes of the test on a search's commits: of its tries, other searches', control runs and earlier runs."""
    cell, run = session.get_one(Cell, row.cell_id), session.get_one(Run, row.run_id)
    places = {row.good: core.GOOD, **{commit: i for i, commit in enumerate(row.commits)}}
    places.pop("", None)
    found = answers_in_cell(session, run.project_id, cell.job, cell.key, list(places))
    outcomes = outcomes_of(session, [attempt for attempt, _, _ in found])
    begun = next((at for attempt, _, at in found if attempt == cell.attempt_id), run.created_at)
    tried, absent = [], 0
    for attempt, commit, at in found:
        given = outcomes[attempt]
        outcome = int(given[row.test]) if row.test < len(given) else Outcome.ABSENT
        today = at > begun and attempt != cell.attempt_id
        if outcome in (Outcome.FAILED, Outcome.ERRORED, Outcome.FLAKY):
            tried.append(core.Tried(places[commit], failed=True, today=today))
        if outcome in (Outcome.PASSED, Outcome.FLAKY):
            tried.append(core.Tried(places[commit], failed=False, today=today))
        absent += outcome == Outcome.ABSENT and today  # what is not there says nothing
    running = [places[c] for c in tries_under_way(session, row.cell_id) if c in places]
    return Known(tried, running, lost_tries(session, row.id) + absent)


def belief_of(row: Search, known: Known) -> core.Belief:
    return core.Belief(len(row.commits), known.tried, row.random, row.rate)


def named_run(session: Session, name: str, number: int) -> tuple[Project, Run]:
    project = the_project(session, name)
    return project, the_run(session, project, number)


def begun_search(session: Session, run: Run, test: int, finding: str) -> Search | None:
    """The newest search of a test in a run, of a finding's cells where one is named."""
    cells = {c.id for c, _ in failing_cells(session, run, test, finding)} if finding else set()
    return next((s for s in searches_for(session, run.id, test) if not cells or s.cell_id in cells), None)


def failing_cells(session: Session, run: Run, test: int, finding: str = "") -> list[tuple[Cell, int]]:
    """The cells of a run in which a test fails, with their attempts; by a finding's signature, where it is named, those
    in which it fails so: elsewhere it may fail for another cause.
    """
    rows = cells_with_attempts(session, run.id)
    signed = signatures_of_test(session, test, [a for _, a in rows])
    failed = [(c, a) for c, a in rows if a in signed]
    return [(c, a) for c, a in failed if signed[a] == finding] or failed


def range_of(site: Site, session: Session, project: Project, run: Run, test: int, finding: str = "") -> Range:
    """The cell to search in, the one that ends soonest, and the commits since it last passed there."""
    commit = run.tested or run.commit
    cells = [c for c, _ in failing_cells(session, run, test, finding) if not c.gated]
    if not cells:
        raise Refused("this test failed in no cell of this run", "choose a test that fails in it")
    past = history_of_test(session, project.id, test)
    passed = [p for p in past if p.run < run.number and p.outcome is Outcome.PASSED]
    by_number = runs_numbered(session, project.id, {p.run for p in passed})
    mirror = site.mirror(project)
    for cell in sorted(cells, key=lambda c: (c.predicted or 60.0, c.position)):
        for number in sorted((p.run for p in passed if p.cell == cell.key and p.run in by_number), reverse=True):
            good = by_number[number].commit
            commits = _commits(mirror, good, commit)
            if commits:
                return Range(cell, good, commits)
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


def chances_of(session: Session, project: Project, found: Range, bad: Run, test: int) -> tuple[float, float]:
    """The chance that the test failed at times before the commits in question, and how often, from all its results."""
    told = chances_of_tests(session, [test], attempts_with_result(session, project.id, RUNS))[test]
    since = bad.depth - len(found.commits)
    return (told.sure, told.rate) if told.now and (told.since is None or told.since <= since) else (0.0, 0.0)


def _proposed(site: Site, project: Project, found: Range, test: int, chances: tuple[float, float]) -> SearchView:
    at_once = min(MOST_AT_ONCE, max(1, len(found.commits) - 1))
    expected = core.expected_tries(len(found.commits), *chances, at_once)
    seconds = expected / at_once * found.cell.predicted if found.cell.predicted else None
    lines = _lines(site, project, found.commits, Known([], [], 0), core.Belief(len(found.commits), [], *chances))
    only = len(found.commits) == 1
    said = "The commit before it passed: there is nothing to search." if only else ""
    return SearchView(
        None,
        test,
        found.cell.job,
        found.cell.key,
        "found" if only else "proposed",
        said,
        0,
        expected,
        seconds,
        at_once,
        lines[0] if only else None,
        lines,
    )


def search_view(site: Site, session: Session, project: Project, row: Search) -> SearchView:
    known = known_of(session, row)
    belief = belief_of(row, known)
    cell = session.get_one(Cell, row.cell_id)
    lines = _lines(site, project, row.commits, known, belief)
    answer = next((line for line in lines if line.commit == row.answer), None)  # not what later tries would say
    expected = core.expected_tries(len(lines), row.random, row.rate, row.slots)
    seconds = expected / row.slots * cell.predicted if cell.predicted else None
    return SearchView(
        row.id,
        row.test,
        cell.job,
        cell.key,
        row.state,
        row.said,
        known.today,
        expected,
        seconds,
        row.slots,
        answer if row.state == SearchState.FOUND else None,
        lines,
    )


def said_of(row: Search, known: Known, found: core.Found) -> str:
    """What a search has found, as a sentence without its full stop."""
    tries = f"{known.today} {'try' if known.today == 1 else 'tries'}"
    sure = f"with {core.certainty(found.chance)} certainty after {tries}"
    rate = f"in about {max(1, round(found.rate * 100))} of 100 results"
    last, good = row.commits[-1][:7], row.good[:7] or "the one before"
    first = row.commits[found.at][:7] if found.at is not None else ""
    if not found.certain:
        likely = f"; the likeliest of these commits is {first}, {core.certainty(found.chance)}" if first else ""
        return f"which commit it was cannot be told by running it: {tries} leave it open{likely}"
    return {
        core.Kind.ALWAYS: f"{first} is the first bad commit, {sure}",
        core.Kind.AT_TIMES: f"it fails at times since {first}, {rate}, and before it never did, {sure}",
        core.Kind.BEFORE: f"none of these commits: it fails at times on {good} too, {rate}, {sure}",
        core.Kind.WORLD: f"none of these commits: it fails today on {good} too, where it passed, {sure}",
        core.Kind.GONE: f"it cannot be told by running it: today {last} does not fail, in {tries}",
    }[found.kind]


def _lines(site: Site, project: Project, commits: Sequence[str], known: Known, belief: core.Belief) -> list[CommitLine]:
    mirror = site.mirror(project)
    chance = belief.by_commit()
    found = []
    for at, commit in enumerate(commits):
        try:
            told = mirror.commit(commit)
            title, author = told.title, told.author
        except GitError:
            title, author = "(no longer in the repository)", ""
        here = [t for t in known.tried if t.at == at and t.today]
        found.append(
            CommitLine(
                commit,
                title,
                author,
                float(chance[at]),
                sum(not t.failed for t in here),
                sum(t.failed for t in here),
                at in known.running,
            )
        )
    return found
