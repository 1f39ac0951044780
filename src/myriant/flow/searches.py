"""The search for the first bad commit of a finding: tries of commits in one cell, as control runs."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import select, update
from sqlalchemy.orm import Session

from myriant.core.diagnosis import search as core
from myriant.core.results.model import Outcome
from myriant.flow.errors import NotFound, Refused
from myriant.flow.flakes import flake_of
from myriant.flow.lines import the_project, the_run
from myriant.flow.people import Person
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.repos.mirror import Mirror
from myriant.store.changes import ring_runners, tell
from myriant.store.results import history_of_test, outcomes_of
from myriant.store.tables import Attempt, Cell, Control, Project, Run, Search

MOST_COMMITS = 500
MOST_AT_ONCE = 4
_MOST_LOST = 6  # tries without an answer after which a search gives up


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


def propose(site: Site, name: str, number: int, test: int) -> SearchView:
    """What a search would try and cost; the search itself where one has begun. Raises NotFound, Refused."""
    with site.store.transaction() as session:
        project, run = _of(session, name, number)
        begun = session.scalars(
            select(Search).where(Search.run_id == run.id, Search.test == test).order_by(Search.id.desc())
        ).first()
        if begun is not None:
            return _view(site, session, project, begun)
        found = _range(site, session, project, run, test)
        chances = _chances(session, project, test)
        return _proposed(site, project, found, test, chances)


def begin(site: Site, name: str, number: int, test: int, who: Person) -> SearchView:
    """Begin a search, or go on with one that was stopped. Raises NotFound, Refused."""
    with site.store.transaction() as session:
        project, run = _of(session, name, number)
        session.refresh(run, with_for_update=True)
        row = session.scalars(
            select(Search).where(Search.run_id == run.id, Search.test == test).order_by(Search.id.desc())
        ).first()
        if row is None:
            found = _range(site, session, project, run, test)
            chances = _chances(session, project, test)
            row = Search(
                run_id=run.id, cell_id=found.cell.id, test=test, commits=found.commits, slots=MOST_AT_ONCE,
                missed=chances.missed, state="running", by=who.name,
            )  # fmt: skip
            session.add(row)
            session.flush()
        elif row.state in ("stopped", "given-up"):
            row.state, row.said = "running", ""
        _go_on(site, session, row)
        tell(session, "run", project.name, run.number)
        return _view(site, session, project, row)


def stop(site: Site, name: str, number: int, test: int) -> SearchView:
    """Plan no more tries; what has been tried is kept, and a search begun again goes on from there."""
    with site.store.transaction() as session:
        project, run = _of(session, name, number)
        row = session.scalars(
            select(Search).where(Search.run_id == run.id, Search.test == test).order_by(Search.id.desc())
        ).first()
        if row is None:
            raise NotFound("there is no such search")
        if row.state == "running":
            row.state, row.said = "stopped", "stopped by a person"
        session.execute(
            update(Control).where(Control.search_id == row.id, Control.state == "waiting").values(state="given-up")
        )
        tell(session, "run", project.name, run.number)
        return _view(site, session, project, row)


def try_ended(site: Site, session: Session, control: Control) -> None:
    """Look at what a search knows after one of its tries has ended."""
    row = session.get(Search, control.search_id, with_for_update=True) if control.search_id else None
    if row is not None and row.state == "running":
        session.flush()
        _go_on(site, session, row)


def go_on_with_searches(site: Site) -> None:
    """Plan the next tries of searches that wait for none: a runner may have been lost with the last one."""
    with site.store.transaction() as session:
        open_tries = select(Control.search_id).where(
            Control.state.in_(("waiting", "running")), Control.search_id.is_not(None)
        )
        for row in session.scalars(
            select(Search).where(Search.state == "running", Search.id.not_in(open_tries)).with_for_update()
        ).all():
            _go_on(site, session, row)


def _go_on(site: Site, session: Session, row: Search) -> None:
    tried, running, lost = _tries(session, row)
    chances = core.Chances(row.missed, _false(row.missed))
    if lost >= _MOST_LOST:
        row.state, row.said = "given-up", f"{lost} tries gave no result that can be trusted"
        return
    wanted = core.next_tries(len(row.commits), tried, max(0, row.slots - len(running)), chances, running)
    for at in wanted:
        session.add(
            Control(
                run_id=row.run_id, cell_id=row.cell_id, place="search", commit=row.commits[at], state="waiting",
                search_id=row.id,
            )
        )  # fmt: skip
    if wanted:
        session.flush()
        ring_runners(session)
    elif not running:
        at, chance = core.found(len(row.commits), tried, chances)
        row.state = "found" if chance >= core.CONFIDENCE or len(row.commits) == 1 else "given-up"
        row.said = (
            f"{row.commits[at][:7]} is the first bad commit, with {chance:.1%} certainty after {len(tried)} tries"
        )


def _tries(session: Session, row: Search) -> tuple[list[core.Tried], list[int], int]:
    """Outcomes so far, places of tries under way, and how many tries gave no result."""
    controls = session.scalars(select(Control).where(Control.search_id == row.id).order_by(Control.id)).all()
    places = {commit: i for i, commit in enumerate(row.commits)}
    done = [c for c in controls if c.state == "done" and c.attempt_id is not None]
    outcomes = outcomes_of(session, [c.attempt_id for c in done if c.attempt_id is not None])
    tried, lost = [], sum(c.state == "given-up" for c in controls)
    for c in done:
        found = outcomes[c.attempt_id or 0]
        outcome = int(found[row.test]) if row.test < len(found) else Outcome.ABSENT
        if outcome in (Outcome.FAILED, Outcome.ERRORED):
            tried.append(core.Tried(places[c.commit], failed=True))
        elif outcome in (Outcome.PASSED, Outcome.FLAKY, Outcome.ABSENT):  # a test that is not there does not fail
            tried.append(core.Tried(places[c.commit], failed=False))
        else:
            lost += 1
    return tried, [places[c.commit] for c in controls if c.state in ("waiting", "running")], lost


def _of(session: Session, name: str, number: int) -> tuple[Project, Run]:
    project = the_project(session, name)
    return project, the_run(session, project, number)


def _range(site: Site, session: Session, project: Project, run: Run, test: int) -> _Range:
    """The cell to search in, the one that ends soonest, and the commits since it last passed there."""
    commit = run.tested or run.commit
    failed = session.execute(
        select(Cell, Attempt.id).join(Attempt, Attempt.id == Cell.attempt_id).where(Cell.run_id == run.id)
    ).all()
    outcomes = outcomes_of(session, [a for _, a in failed])
    cells = [
        c for c, a in failed
        if test < len(outcomes[a]) and outcomes[a][test] in (Outcome.FAILED, Outcome.ERRORED) and not c.gated
    ]  # fmt: skip
    if not cells:
        raise Refused("this test failed in no cell of this run", "choose a test that fails in it")
    past = history_of_test(session, project.id, test)
    numbers = {p.run for p in past if p.run < run.number and p.outcome is Outcome.PASSED}
    runs = session.scalars(select(Run).where(Run.project_id == project.id, Run.number.in_(numbers))).all()
    by_number = {r.number: r for r in runs}
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


def _chances(session: Session, project: Project, test: int) -> core.Chances:
    """How a try may err, from how often the test flakes."""
    told = flake_of(session, project, test)
    missed = min(max(core.MISSED, told.rate if told.odd else 0.0), 0.4)
    return core.Chances(missed, _false(missed))


def _false(missed: float) -> float:
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


def _view(site: Site, session: Session, project: Project, row: Search) -> SearchView:
    tried, running, _ = _tries(session, row)
    chances = core.Chances(row.missed, _false(row.missed))
    cell = session.get_one(Cell, row.cell_id)
    lines = _lines(site, project, row.commits, tried, running, chances)
    answer = lines[core.found(len(lines), tried, chances)[0]] if row.state == "found" else None
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
