"""Planning: the plan at the commit, and its cells."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import asdict

from sqlalchemy import func
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session

from myriant.core.plan.advice import Surroundings, misplaced
from myriant.core.plan.intent import Earlier, intent
from myriant.core.plan.model import FILE_NAME
from myriant.core.plan.read import Reading, read_plan
from myriant.core.written import counted
from myriant.flow.intake.starting import describe
from myriant.flow.planning.cells import make_cells, told_of
from myriant.flow.planning.preconditions import meet_expectations, require_secrets
from myriant.flow.planning.reuse import reuse_answers
from myriant.flow.planning.schedules import remember_schedules
from myriant.flow.planning.superseding import supersede_older
from myriant.flow.planning.turns import give_ranks
from myriant.flow.plans import event_of
from myriant.flow.site import Site
from myriant.flow.state.advance import advance
from myriant.flow.state.runs import hold_untested
from myriant.repos.git import GitError
from myriant.repos.mirror import Commit, Mirror
from myriant.store.changes import ring_runners, tell
from myriant.store.queue import defer
from myriant.store.runs import earlier_sample
from myriant.store.tables import Project, Run, Untested


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
            hold_untested(session, run, f"the commit cannot be read: {error}")
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
            hold_untested(session, run, refusal)
        elif source is None or reading is None:
            hold_untested(session, run, _no_plan(mirror, tested))
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
        hold_untested(session, run, _unusable(reading))
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
    meet_expectations(session, run, reading.plan, files)
    require_secrets(session, run, reading.plan)
    give_ranks(session, run, reading.plan)
    supersede_older(session, project, run, reading.plan)
    session.flush()
    if run.event in ("push", "pull-request", "tag"):
        reuse_answers(session, run)
    advance(session, run, reading.plan)
    ring_runners(session)


def _unusable(reading: Reading) -> str:
    return f"the plan cannot be used: {counted(len(reading.errors), 'problem')}, first {reading.errors[0]}"
