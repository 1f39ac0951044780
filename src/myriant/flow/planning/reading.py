"""Planning: the plan at the commit, and its cells."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, replace

from sqlalchemy.orm import Session

from myriant.core.gate.contexts import EVIDENCE
from myriant.core.plan.advice_of_jobs import Surroundings
from myriant.core.plan.advice_of_texts import misplaced
from myriant.core.plan.content import part_of_plan
from myriant.core.plan.intent import Earlier, Event, Fate, Intent, intent
from myriant.core.plan.model import FILE_NAME, Plan
from myriant.core.plan.read import Reading, read_plan
from myriant.core.states import EventKind, Verdict, Why
from myriant.core.written import counted
from myriant.flow.compare.baselines import ancestors, asks_less, changed_for, gate_baselines, good_baselines
from myriant.flow.planning.cells import make_cells, told_of
from myriant.flow.planning.notify import remember_notify
from myriant.flow.planning.preconditions import meet_expectations, require_secrets
from myriant.flow.planning.schedules import remember_schedules
from myriant.flow.planning.superseding import supersede_older
from myriant.flow.planning.taken import require_taken, take_artifacts
from myriant.flow.planning.turns import give_ranks
from myriant.flow.plans import event_of, plan_of_run
from myriant.flow.site import Site
from myriant.flow.state.advance import advance
from myriant.flow.state.reuse import reuse_answers
from myriant.flow.state.runs import exempt, hold_untested, not_asked
from myriant.flow.state.starting import describe
from myriant.flow.state.stopping import stop_cells
from myriant.repos.git import GitError
from myriant.repos.mirror import Commit, Mirror
from myriant.store.cells import earlier_sample, open_cells_of
from myriant.store.changes import ring_runners, tell
from myriant.store.judged import plan_job_results
from myriant.store.plans import keep_plan_text
from myriant.store.projects import remember_untested
from myriant.store.tables import Project, Run


@dataclass(frozen=True, slots=True)
class _Read:
    """What git says of a run before it is planned."""

    commit: Commit
    depth: int
    tested: str  # empty when there is nothing to test
    tree: str
    refusal: str
    source: bytes | None
    asked: bytes | None  # the target's plan
    nearest: list[str]
    untested: Sequence[Commit]


def plan_run(site: Site, run_id: int) -> None:
    """Read the plan at the run's commit and make its cells. Running twice does no harm."""
    with site.store.transaction() as session:
        run = session.get(Run, run_id)
        if run is None or run.plan_digest is not None or run.verdict != Verdict.UNDECIDED:
            return
        project = session.get_one(Project, run.project_id)
    mirror = site.mirror(project)
    try:
        read = _read(site, mirror, project, run)
    except GitError as error:
        with site.store.transaction() as session:
            run = session.get_one(Run, run_id)
            hold_untested(session, run, Why.COMMIT, f"the commit cannot be read: {error}")
            tell(session, "run", project.name, run.number)
        return
    source = read.source
    reading = read_plan(source, around=_around(mirror, read.tested)) if source is not None and read.tested else None
    with site.store.transaction() as session:
        run = session.get_one(Run, run_id, with_for_update=True)
        describe(run, read.commit, read.depth)
        run.tree, run.tested = read.tree, read.tested if read.tested and read.tested != run.commit else None
        _remember_untested(session, project.id, run, read.untested)
        if read.refusal:
            hold_untested(session, run, Why.CONFLICT, read.refusal)
        elif source is None or reading is None:
            hold_untested(session, run, Why.PLAN, _no_plan(mirror, read.tested))
        else:
            if read.asked is not None:
                run.asked_digest = keep_plan_text(session, read.asked)
            run.plan_digest = keep_plan_text(session, source)
            run.problems = [asdict(p) for p in reading.problems]
            _apply(site, session, project, run, reading, read.nearest)
        tell(session, "run", project.name, run.number)


def _read(site: Site, mirror: Mirror, project: Project, run: Run) -> _Read:
    if not mirror.has(run.commit) or (run.base and not mirror.has(run.base)):
        mirror.fetch()
    commit, depth = mirror.commit(run.commit), mirror.depth(run.commit)
    tested, tree, refusal = run.commit, commit.tree, ""
    if run.base:
        tested, tree, refusal = _merged(mirror, run)
    source = mirror.file(tested, FILE_NAME) if tested else None
    asked = mirror.file(run.base, FILE_NAME) if run.base else None
    if source is None and project.plan is not None:
        source = project.plan.encode()
    if source is None and asked is not None and tested:
        source = asked  # a pull request cannot take its target's plan away
    if run.base and asked is None and project.plan is not None:
        asked = project.plan.encode()
    nearest, untested = ancestors(site, project, run), _pushed_along(mirror, project, run)
    return _Read(commit, depth, tested, tree, refusal, source, asked, nearest, untested)


def _pushed_along(mirror: Mirror, project: Project, run: Run) -> Sequence[Commit]:
    """Commits that came with a push below its head; of a branch that is new, those since it left the main branch."""
    if run.event != EventKind.PUSH:
        return []
    before = run.before
    if not before and run.branch != project.main_branch:
        main = mirror.branches().get(project.main_branch)
        before = mirror.fork_point(main, run.commit) if main is not None else None
    return mirror.between(before, run.commit) if before else []


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


def _around(mirror: Mirror, commit: str) -> Surroundings:
    """What the commit itself tells about its plan."""
    return Surroundings(
        files=tuple(mirror.files(commit)),
        mentions=lambda word: mirror.grep(commit, word),
        read=lambda path: (mirror.file(commit, path) or b"").decode("utf-8", "replace"),
    )


def _expected_files(plan: Plan) -> set[str]:
    wanted = [job.expect for job in plan.jobs if job.expect]
    return {f for e in wanted for f in (e.tag_file, e.mentioned_in) if f}


def _remember_untested(session: Session, project_id: int, run: Run, commits: Sequence[Commit]) -> None:
    rows: list[dict[str, object]] = [
        {
            "project_id": project_id,
            "commit": c.id,
            "branch": run.branch,
            "run": run.number,
            "title": c.title,
            "reason": f"it was pushed together with {run.commit[:7]}, which run #{run.number} tested",
        }
        for c in commits
    ]
    remember_untested(session, rows)


def _no_plan(mirror: Mirror, commit: str) -> str:
    return misplaced(mirror.files(commit)) or (
        f"there is no test plan at this commit: add {FILE_NAME} at its root, or keep one on the server"
    )


def _apply(site: Site, session: Session, project: Project, run: Run, reading: Reading, nearest: Sequence[str]) -> None:
    plan = plan_of_run(session, run)
    if plan is None or reading.plan is None:
        hold_untested(session, run, Why.PLAN, _unusable(reading))
        return
    if run.event == EventKind.PUSH and run.branch == project.main_branch:
        remember_schedules(session, project, plan)
        remember_notify(site, session, project, plan)
    good = good_baselines(session, run, nearest, plan.jobs)
    found = _intended(site, session, project, run, plan, good)
    run.left_out = told_of(found)
    if found.reason:
        not_asked(session, run, found.reason)
        return
    gate = gate_baselines(session, run, nearest, plan.jobs) if run.base else good
    known = [b for b in gate.values() if b is not None]
    run.baseline_id = max(known, key=lambda r: (r.depth, r.number)).id if known else None
    asked = {j.job.id: j for j in found.jobs if j.fate in (Fate.RUNS, Fate.EXCUSED) and not j.job.gated}
    grounds = {job: (good if j.fate is Fate.EXCUSED else gate).get(job) for job, j in asked.items()}
    plan_job_results(
        session, run, {job: (True, base.id if base is not None else None) for job, base in grounds.items()}
    )
    stopped = run.reason if run.why == Why.BY_PERSON else ""
    missing = take_artifacts(session, run, plan)
    mirror, tested = site.mirror(project), run.tested or run.commit
    tags = mirror.tags() if any(job.source.tags for job in plan.jobs) else ""
    if not make_cells(session, run, found, good, tags):
        return
    files = {f: mirror.file(tested, f) for f in _expected_files(plan)} if run.tag else {}
    meet_expectations(session, run, plan, files)
    require_secrets(session, run, plan)
    require_taken(session, run, missing)
    supersede_older(session, run, plan)
    give_ranks(session, run, plan)
    session.flush()
    reuse_answers(session, run, open_cells_of(session, run.id))
    if found.excused and not asks_less(site, session, project, run, plan, nearest):
        exempt(session, run, _excuse(found, good))
    if all(j.job.housekeeping for j in found.jobs if j.runs) and not asked:
        not_asked(session, run, HOUSEKEEPING)
    advance(session, run, plan)
    if stopped:
        stop_cells(session, run, open_cells_of(session, run.id), Why.BY_PERSON, stopped)
    ring_runners(session)


HOUSEKEEPING = "only housekeeping was asked for, and it tests nothing"


def _intended(
    site: Site, session: Session, project: Project, run: Run, plan: Plan, good: Mapping[str, Run | None]
) -> Intent:
    """What the event makes happen, each job measured from its own baseline."""
    earlier = Earlier(
        {job.id: earlier_sample(session, run.project_id, run.branch, job.id) for job in plan.jobs if job.sample}
    )
    since = dict(changed_for(site, project, run, plan, good))
    for job in plan.jobs:
        base = good.get(job.id)
        before = plan_of_run(session, base) if base is not None else None
        then = next((j for j in before.jobs if j.id == job.id), None) if before is not None else None
        if then is None or part_of_plan(then) != part_of_plan(job):
            since[job.id] = None  # it is asked something else than what has a result
    found = intent(plan, replace(event_of(run), changed_for=since), earlier)
    if run.event == EventKind.MANUAL and run.context and not found.reason:
        pushed = intent(plan, Event(EventKind.PUSH, run.branch), earlier)
        if pushed.reason or not {(c.job, c.key) for c in pushed.cells} <= {(c.job, c.key) for c in found.cells}:
            run.context = EVIDENCE  # something that a push there would run is left out
    return found


def _excuse(found: Intent, good: Mapping[str, Run | None]) -> str:
    """Why nothing had to run: what changed is watched by no job, and each has a clear result."""
    jobs = [j for j in found.jobs if j.fate is Fate.EXCUSED]
    numbers = sorted({base.number for j in jobs if (base := good.get(j.job.id)) is not None})
    reasons = list(dict.fromkeys(j.reason for j in jobs))
    since = ", ".join(f"#{n}" for n in numbers)
    return f"{'; '.join(reasons[:3])} since {since}, which {'was' if len(numbers) == 1 else 'were'} clear"


def _unusable(reading: Reading) -> str:
    return f"the plan cannot be used: {counted(len(reading.errors), 'problem')}, first {reading.errors[0]}"
