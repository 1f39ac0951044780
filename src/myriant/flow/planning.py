"""Planning: the plan at the commit, and its cells."""

from __future__ import annotations

import fnmatch
import hashlib
from dataclasses import asdict

from sqlalchemy import delete, func
from sqlalchemy.orm import Session

from myriant.core.matrix.expand import expand
from myriant.core.plan.model import FILE_NAME, Plan
from myriant.core.plan.read import Reading, read_plan
from myriant.core.written import counted
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.repos.mirror import Commit, Mirror
from myriant.store.changes import ring_runners, tell
from myriant.store.queue import defer
from myriant.store.tables import Cell, Project, Run


def plan_run(site: Site, run_id: int) -> None:
    """Read the plan at the run's commit and make its cells. Running twice does no harm."""
    with site.store.transaction() as session:
        run = session.get(Run, run_id)
        if run is None or run.plan_digest is not None or run.verdict != "undecided":
            return
        project = session.get_one(Project, run.project_id)
    mirror = site.mirror(project)
    try:
        if not mirror.has(run.commit):
            mirror.fetch()
        commit, depth = mirror.commit(run.commit), mirror.depth(run.commit)
        source = mirror.file(run.commit, FILE_NAME)
    except GitError as error:
        with site.store.transaction() as session:
            run = session.get_one(Run, run_id)
            _hold(session, run, f"the commit cannot be read: {error}")
            tell(session, "run", project.name, run.number)
        return
    with site.store.transaction() as session:
        run = session.get_one(Run, run_id, with_for_update=True)
        describe(run, commit, depth)
        if source is None:
            _hold(session, run, _no_plan(mirror, run.commit))
        else:
            _apply(session, run, source, read_plan(source))
        tell(session, "run", project.name, run.number)


def describe(run: Run, commit: Commit, depth: int) -> None:
    run.tree, run.depth, run.title = commit.tree, depth, commit.title
    run.author, run.author_mail, run.authored_at = commit.author, commit.mail, commit.at


def _no_plan(mirror: Mirror, commit: str) -> str:
    misplaced = [
        p for p in mirror.files(commit) if p.rsplit("/", 1)[-1].lower() in (FILE_NAME, "myriant.tml", "myriant.yml")
    ]
    if misplaced:
        return f"there is no {FILE_NAME} at the root of the repository, but {misplaced[0]}: move it to {FILE_NAME}"
    return f"there is no test plan at this commit: add {FILE_NAME} at the root of the repository"


def _apply(session: Session, run: Run, source: bytes, reading: Reading) -> None:
    run.plan_digest = hashlib.sha256(source).hexdigest()
    run.plan = source.decode("utf-8", "replace").replace("\0", "\N{SYMBOL FOR NULL}")
    run.problems = [asdict(p) for p in reading.problems]
    if reading.plan is None:
        _hold(
            session,
            run,
            f"the plan cannot be used: {counted(len(reading.errors), 'problem')}, first {reading.errors[0]}",
        )
        return
    refusal = starts_nothing(reading.plan, run.branch)
    if refusal:
        run.state, run.verdict, run.reason = "skipped", "exempt", refusal
        run.sentence = f"Exempt: {refusal}."
        run.ended_at = func.now()
        defer(session, "announce", lock=f"notes-{run.project_id}", run_id=run.id)
        return
    make_cells(session, run, reading.plan)
    ring_runners(session)


def starts_nothing(plan: Plan, branch: str) -> str | None:
    """Why a push to `branch` starts nothing under this plan, or None when it does."""
    if plan.push is None:
        return "the plan has no push event"
    patterns = plan.push.branches
    if patterns and not any(fnmatch.fnmatchcase(branch, p) for p in patterns):
        return f"the plan's push event names {', '.join(patterns)}, not {branch}"
    return None


def make_cells(session: Session, run: Run, plan: Plan, state: str = "waiting") -> None:
    """The run's cells, in the order of the plan."""
    session.execute(delete(Cell).where(Cell.run_id == run.id))
    position = 0
    for job in plan.jobs:
        for cell in expand(job):
            session.add(
                Cell(
                    run_id=run.id,
                    job=job.id,
                    job_title=job.title,
                    position=position,
                    key=cell.key,
                    values=cell.values,
                    wants=list(cell.wants),
                    advisory=cell.advisory,
                    state=state,
                )
            )
            position += 1
    run.state, run.reason = state, ""
    if position == 0:
        _hold(session, run, "no cell is left of the plan: every combination is dropped")


def _hold(session: Session, run: Run, reason: str) -> None:
    """Held without a result that could be trusted: nothing ran."""
    run.state, run.verdict, run.reason = "void", "held", reason[:4000]
    run.sentence = f"Held: no trustworthy result; {reason[:1000]}."
    run.ended_at = func.now()
    defer(session, "announce", lock=f"notes-{run.project_id}", run_id=run.id)
