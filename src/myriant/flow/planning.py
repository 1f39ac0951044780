"""Planning: the plan at the commit, and its cells."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping, Sequence
from dataclasses import asdict
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import delete, func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from myriant.core.matrix.expand import Cell as PlannedCell
from myriant.core.plan.advice import Surroundings, misplaced
from myriant.core.plan.expectations import unmet
from myriant.core.plan.intent import Earlier, Event, Intent, JobIntent, intent, steps_for
from myriant.core.plan.model import FILE_NAME, Job, Plan
from myriant.core.plan.read import Reading, read_plan
from myriant.core.plan.versions import offered_names, version_key
from myriant.core.written import counted
from myriant.flow.advance import advance, stop_cells
from myriant.flow.plans import event_of
from myriant.flow.site import Site
from myriant.flow.turns import give_ranks
from myriant.flow.vault import lacking, names_wanted
from myriant.repos.git import GitError
from myriant.repos.mirror import Commit, Mirror
from myriant.store.changes import ring_runners, tell
from myriant.store.queue import defer
from myriant.store.runs import answers_to, earlier_sample, older_waiting_runs, runners_in_touch
from myriant.store.tables import Cell, Project, Run, Schedule, Untested

_IN_TOUCH = timedelta(seconds=60)


def plan_run(site: Site, run_id: int) -> None:
    """Read the plan at the run's commit and make its cells. Running twice does no harm."""
    with site.store.transaction() as session:
        run = session.get(Run, run_id)
        if run is None or run.plan_digest is not None or run.verdict != "undecided":
            return
        project = session.get_one(Project, run.project_id)
    mirror = site.mirror(project)
    try:
        if not mirror.has(run.commit) or (run.base and not mirror.has(run.base)):
            mirror.fetch()
        commit, depth = mirror.commit(run.commit), mirror.depth(run.commit)
    except GitError as error:
        with site.store.transaction() as session:
            run = session.get_one(Run, run_id)
            _hold(session, run, f"the commit cannot be read: {error}")
            tell(session, "run", project.name, run.number)
        return
    tested, tree, refusal = run.commit, commit.tree, ""
    if run.base:
        tested, tree, refusal = _merged(mirror, run)
    source = mirror.file(tested, FILE_NAME) if tested else None
    changed = _changed(mirror, project, run, tested)
    rules = mirror.file(run.base, FILE_NAME) if run.base else None
    if source is None and project.plan is not None:
        source = project.plan.encode()
    reading = read_plan(source, around=_around(mirror, tested)) if source is not None and tested else None
    files = {f: mirror.file(tested, f) for f in _expected_files(reading)} if run.tag else {}
    untested = mirror.between(run.before, run.commit) if run.event == "push" and run.before else []
    with site.store.transaction() as session:
        run = session.get_one(Run, run_id, with_for_update=True)
        describe(run, commit, depth)
        run.tree = tree
        if tested != run.commit:
            run.tested = tested or None
        _remember_untested(session, project.id, run, untested)
        if refusal:
            _hold(session, run, refusal)
        elif source is None or reading is None:
            _hold(session, run, _no_plan(mirror, tested))
        else:
            if rules is not None:
                run.rules = _text(rules)
            _apply(session, project, run, source, reading, changed, files)
        tell(session, "run", project.name, run.number)


def _merged(mirror: Mirror, run: Run) -> tuple[str, str, str]:
    """The merge of a pull request: commit, tree, and why there is none."""
    assert run.base is not None
    try:
        merge = mirror.merge(run.base, run.commit, f"{run.pull_request}-{run.number}")
    except GitError as error:
        return "", "", f"{run.source} cannot be merged into {run.branch}: {error}"
    if merge.commit is None:
        files = ", ".join(merge.conflicts[:20])
        return "", merge.tree, f"{run.source} cannot be merged into {run.branch}: conflicts in {files}"
    return merge.commit, merge.tree, ""


def _changed(mirror: Mirror, project: Project, run: Run, tested: str) -> tuple[str, ...] | None:
    """The files that an event changed, None when that has no answer."""
    if run.event == "pull-request" and run.base and tested:
        return mirror.changed_files(run.base, tested)
    if run.event != "push":
        return None
    before = run.before
    if before is None and run.branch != project.main_branch:
        main = mirror.resolve(project.main_branch)
        before = mirror.fork_point(main, run.commit) if main else None
    return mirror.changed_files(before, run.commit) if before and mirror.has(before) else None


def _around(mirror: Mirror, commit: str) -> Surroundings:
    """What the commit itself tells about its plan."""
    return Surroundings(files=tuple(mirror.files(commit)), mentions=lambda word: mirror.grep(commit, word))


def _expected_files(reading: Reading | None) -> set[str]:
    plan = reading.plan if reading else None
    wanted = [job.expect for job in plan.jobs if job.expect] if plan else []
    return {f for e in wanted for f in (e.tag_file, e.mentioned_in) if f}


def describe(run: Run, commit: Commit, depth: int) -> None:
    run.tree, run.depth, run.title = commit.tree, depth, commit.title
    run.author, run.author_mail, run.authored_at = commit.author, commit.mail, commit.at


def _remember_untested(session: Session, project_id: int, run: Run, commits: Sequence[Commit]) -> None:
    rows = [
        {
            "project_id": project_id, "commit": c.id, "branch": run.branch, "run": run.number, "title": c.title,
            "reason": f"it was pushed together with {run.commit[:7]}, which run #{run.number} tested",
        }
        for c in commits
    ]  # fmt: skip
    if rows:
        session.execute(insert(Untested).on_conflict_do_nothing(), rows)


def _no_plan(mirror: Mirror, commit: str) -> str:
    return misplaced(mirror.files(commit)) or (
        f"there is no test plan at this commit: add {FILE_NAME} at its root, or keep one on the server"
    )


def _text(source: bytes) -> str:
    return source.decode("utf-8", "replace").replace("\0", "\N{SYMBOL FOR NULL}")


def _apply(
    session: Session, project: Project, run: Run, source: bytes,
    reading: Reading, changed: tuple[str, ...] | None,
    files: Mapping[str, bytes | None],
) -> None:  # fmt: skip
    run.plan_digest = hashlib.sha256(source).hexdigest()
    run.plan = _text(source)
    run.problems = [asdict(p) for p in reading.problems]
    if reading.plan is None:
        _hold(session, run, _unusable(reading))
        return
    if run.event == "push" and run.branch == project.main_branch:
        remember_schedules(session, project, reading.plan)
    earlier = Earlier(
        {job.id: earlier_sample(session, run.project_id, run.branch, job.id) for job in reading.plan.jobs if job.sample}
    )
    found = intent(reading.plan, event_of(run, changed), earlier)
    run.left_out = told_of(found)
    if found.reason:
        run.state, run.verdict, run.reason = "skipped", "exempt", found.reason
        run.sentence = f"Exempt: {found.reason}."
        run.ended_at = func.now()
        defer(session, "announce", lock=f"notes-{run.project_id}", run_id=run.id)
        return
    make_cells(session, run, found)
    _expect(session, run, reading.plan, files)
    _require_secrets(session, run, reading.plan)
    give_ranks(session, run, reading.plan)
    _supersede(session, project, run, reading.plan)
    session.flush()
    if run.event in ("push", "pull-request", "tag"):
        _reuse(session, run)
    advance(session, run, reading.plan)
    ring_runners(session)


def _unusable(reading: Reading) -> str:
    return f"the plan cannot be used: {counted(len(reading.errors), 'problem')}, first {reading.errors[0]}"


def told_of(found: Intent) -> list[dict[str, Any]]:
    """What the run says of its jobs beside their cells: why one does not run, why it does, what a sample hides."""
    told = []
    for job in found.jobs:
        row: dict[str, Any] = {"job": job.job.id, "title": job.job.title}
        if job.reason or job.because:
            row |= {"reason": job.reason, "because": job.because}
        if job.blind is not None and job.blind.missed:
            row |= {
                "blind": {
                    "size": job.blind.size, "missed": job.blind.missed, "possible": job.blind.possible,
                    "examples": list(job.examples),
                }
            }  # fmt: skip
        if len(row) > 2:
            told.append(row)
    return told


def make_cells(session: Session, run: Run, found: Intent, state: str = "waiting") -> None:
    """The run's cells, in the order of the plan."""
    session.execute(delete(Cell).where(Cell.run_id == run.id))
    position = 0
    for job in found.jobs:
        for cell in job.cells if job.runs else ():
            session.add(_cell(run, found.event, job, cell, position, state))
            position += 1
    run.state, run.reason = state, ""
    session.flush()
    if position == 0:
        _hold(session, run, "no cell is left of the plan: every combination is dropped")


def _cell(run: Run, event: Event, found: JobIntent, cell: PlannedCell, position: int, state: str) -> Cell:
    job = found.job
    waits = bool(job.after or job.gated or job.approval)
    reason = (
        "waits for the verdict" if job.gated else f"after {', '.join(a.job for a in job.after)}" if job.after else ""
    )
    made = Cell(
        run_id=run.id,
        job=job.id,
        job_title=job.title,
        position=position,
        key=cell.key,
        values=cell.values,
        wants=list(cell.wants),
        advisory=cell.advisory,
        selected=cell.selected,
        gated=job.gated,
        ready=not waits,
        at_once=job.at_once,
        content=_content(run, event, job, cell),
        state=state,
        reason=reason,
    )
    if not cell.selected:
        made.state, made.mark, made.reason = "skipped", "not-selected", "not selected by the sample"
    return made


def _content(run: Run, event: Event, job: Job, cell: PlannedCell) -> str | None:
    """A digest of all that decides a cell's result but the exact runtimes; None for what is never reused."""
    if job.gated or names_wanted(job) or not cell.selected:
        return None
    steps = [i for i, (_, skipped) in enumerate(steps_for(job, cell.values, event)) if not skipped]
    parts = [run.project_id, run.tree, run.plan_digest, job.id, cell.key, steps, cell.wants]
    return hashlib.sha256(json.dumps(parts).encode()).hexdigest()


def _expect(session: Session, run: Run, plan: Plan, files: Mapping[str, bytes | None]) -> None:
    """Void the cells of jobs whose expectations of the tag are not met."""
    for job in plan.jobs:
        if job.expect is None or not run.tag:
            continue
        why = unmet(job.expect, run.tag, files)
        if why:
            for cell in session.scalars(select(Cell).where(Cell.run_id == run.id, Cell.job == job.id)):
                cell.state, cell.mark, cell.reason = "void", "void", why


def _require_secrets(session: Session, run: Run, plan: Plan) -> None:
    """Void the cells of jobs that ask for secrets which they are not given, before anything runs."""
    for job in plan.jobs:
        why = lacking(session, run, job)
        if why:
            for cell in session.scalars(select(Cell).where(Cell.run_id == run.id, Cell.job == job.id)):
                if cell.state == "waiting":
                    cell.state, cell.mark, cell.reason = "void", "void", why


def _supersede(session: Session, project: Project, run: Run, plan: Plan) -> None:
    """Stop what an older event of the same purpose still waits for, as each job says."""
    if run.event not in ("push", "pull-request"):
        return
    usual = "running" if run.event == "pull-request" else "waiting"
    stops = {job.id: job.supersede or usual for job in plan.jobs}
    for older in older_waiting_runs(session, run):
        cells = session.scalars(
            select(Cell).where(Cell.run_id == older.id, Cell.state.in_(("waiting", "running")))
        ).all()
        going = {c.job for c in cells if c.state == "running"}
        doomed = [
            c for c in cells
            if (how := stops.get(c.job, usual)) != "never" and (c.state == "waiting" or how == "running")
            and (how == "running" or c.job not in going)
        ]  # fmt: skip
        stop_cells(session, project, older, doomed, f"superseded by #{run.number}")


def _reuse(session: Session, run: Run) -> None:
    """Take over results of the same content: tree, plan, steps and exact runtimes."""
    cells = session.scalars(
        select(Cell).where(Cell.run_id == run.id, Cell.state == "waiting", Cell.content.is_not(None))
    ).all()
    found = answers_to(session, run, [c.content for c in cells if c.content])
    if not found:
        return
    newest = _newest_runtimes(session)
    taken = set()
    for cell in cells:
        answer = found.get(cell.content or "")
        if answer is None:
            continue
        other, attempt, number = answer
        wants = [w for w in cell.wants if not w.startswith("label ")]
        if attempt.runtimes != {w.partition(" ")[0]: newest.get(w) for w in wants}:
            continue
        cell.state, cell.attempt_id, cell.reused = other.state, attempt.id, number
        cell.mark, cell.reason = {"failed": "new"}.get(other.state, other.state), f"same content as #{number}"
        cell.counts = {k: v for k, v in other.counts.items() if k not in ("new", "known", "fixed", "vanished", "first")}
        taken.add(number)
    if taken and not session.scalar(
        select(func.count()).where(Cell.run_id == run.id, Cell.state == "waiting", ~Cell.gated)
    ):
        run.state, run.started_at = "running", func.now()


def _newest_runtimes(session: Session) -> dict[str, str]:
    """The exact version that a wish would get now, by the runners in touch."""
    newest: dict[str, str] = {}
    for runner in runners_in_touch(session, datetime.now(UTC) - _IN_TOUCH):
        for r in runner.runtimes:
            for name in [*offered_names(r["version"]), *(["system"] if r.get("system") else [])]:
                wish = f"{r['family']} {name}"
                if wish not in newest or version_key(newest[wish]) < version_key(r["version"]):
                    newest[wish] = r["version"]
    return newest


def remember_schedules(session: Session, project: Project, plan: Plan) -> None:
    """Keep the schedules of the plan on the main branch, with their next times."""
    now = datetime.now(UTC)
    known = {s.name: s for s in session.scalars(select(Schedule).where(Schedule.project_id == project.id))}
    for wanted in plan.events.schedules:
        branch = wanted.branch or project.main_branch
        kept = known.pop(wanted.name, None)
        if kept is None or kept.words != wanted.times.words:
            at = next(wanted.times.after(now))
            session.merge(
                Schedule(project_id=project.id, name=wanted.name, branch=branch, words=wanted.times.words, next_at=at)
            )
        else:
            kept.branch = branch
    for gone in known.values():
        session.delete(gone)


def _hold(session: Session, run: Run, reason: str) -> None:
    """Held without a result that could be trusted: nothing ran."""
    run.state, run.verdict, run.reason = "void", "held", reason[:4000]
    run.sentence = f"Held: no trustworthy result; {reason[:1000]}."
    run.ended_at = func.now()
    defer(session, "announce", lock=f"notes-{run.project_id}", run_id=run.id)
