"""Questions about what was judged: verdicts of commits, results of jobs, what a person accepted, what lasts."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Text, cast, delete, func, select, update
from sqlalchemy.dialects.postgresql import ARRAY, insert
from sqlalchemy.orm import Session, aliased

from myriant.core.gate.word import Said
from myriant.core.states import EventKind, Verdict
from myriant.store.projects import living_contexts
from myriant.store.records import as_json
from myriant.store.tables import Acceptance, JobResult, Lasting, Project, Run


def verdicts_of_commits(session: Session, project_id: int, commits: Collection[str]) -> dict[str, list[Said]]:
    """Every verdict of these commits, by commit; which contexts are over is told by branches and pull requests."""
    return verdicts_of_many(session, {project_id: commits}).get(project_id, {})


def verdicts_of_many(session: Session, wanted: Mapping[int, Collection[str]]) -> dict[int, dict[str, list[Said]]]:
    """As `verdicts_of_commits`, for the commits of several projects at once."""
    commits = {commit for some in wanted.values() for commit in some}
    if not commits:
        return {}
    rows = session.execute(
        select(Run.project_id, Run.commit, Run.context, Run.verdict, Run.number)
        .where(Run.project_id.in_(list(wanted)), Run.commit.in_(commits))
        .where(Run.context != "", Run.verdict != Verdict.NONE)
        .order_by(Run.number)
    ).all()
    going_on = living_contexts(session, {(project, context) for project, _, context, _, _ in rows})
    found: dict[int, dict[str, list[Said]]] = {project: {} for project in wanted}
    for project, commit, context, verdict, number in rows:
        if commit in wanted[project]:
            said = Said(context, Verdict(verdict), number, (project, context) not in going_on)
            found[project].setdefault(commit, []).append(said)
    return found


def newest_runs_beside(session: Session, project_id: int, contexts: Collection[str], most: int) -> Sequence[Run]:
    """Of each commit of which one of these contexts says something and another too, the newest run; newest first."""
    here, other = aliased(Run), aliased(Run)
    said = (here.project_id == project_id) & (here.verdict != Verdict.NONE)
    commits = (
        select(here.commit)
        .where(said, here.context.in_(contexts))
        .where(
            select(other.id)
            .where(other.project_id == project_id, other.commit == here.commit, other.verdict != Verdict.NONE)
            .where(other.context != "", other.context.not_in(contexts))
            .exists()
        )
    )
    newest = select(func.max(Run.id)).where(Run.project_id == project_id, Run.commit.in_(commits))
    newest = newest.where(Run.context != "", Run.verdict != Verdict.NONE).group_by(Run.commit)
    return session.scalars(select(Run).where(Run.id.in_(newest)).order_by(Run.id.desc()).limit(most)).all()


@dataclass(frozen=True, slots=True)
class JobSaid:
    """What one run says of a job."""

    run_id: int
    number: int
    commit: str
    context: str
    trusted: bool
    good: bool
    job: str


def judged_jobs(
    session: Session, project_id: int, jobs: Collection[str], commits: Sequence[str], but: int
) -> dict[str, dict[str, list[JobSaid]]]:
    """By job and commit, what runs other than `but` have said, the oldest first."""
    found: dict[str, dict[str, list[JobSaid]]] = {}
    if not jobs or not commits:
        return found
    rows = session.execute(
        select(
            JobResult.job,
            JobResult.run_id,
            JobResult.number,
            JobResult.commit,
            JobResult.context,
            JobResult.trusted,
            JobResult.good,
        )
        .where(JobResult.project_id == project_id, JobResult.job.in_(jobs), JobResult.commit.in_(commits))
        .where(JobResult.good.is_not(None), JobResult.run_id != but)
        .order_by(JobResult.number)
    )
    for job, run_id, number, commit, context, trusted, good in rows:
        told = JobSaid(run_id, number, commit, context, bool(trusted), bool(good), job)
        found.setdefault(job, {}).setdefault(commit, []).append(told)
    return found


def plan_job_results(session: Session, run: Run, jobs: Mapping[str, tuple[bool, int | None]]) -> None:
    """Note which jobs a run is about: whether each was asked for, and its baseline run."""
    session.execute(delete(JobResult).where(JobResult.run_id == run.id))
    session.add_all(
        JobResult(
            run_id=run.id,
            job=job,
            project_id=run.project_id,
            commit=run.commit,
            context=run.context,
            number=run.number,
            asked=asked,
            baseline_id=baseline,
        )
        for job, (asked, baseline) in jobs.items()
    )
    session.flush()


def job_results_of(session: Session, run_id: int) -> dict[str, JobResult]:
    return {r.job: r for r in session.scalars(select(JobResult).where(JobResult.run_id == run_id))}


def reopen_job_results(session: Session, run_id: int) -> None:
    """What was said of a run's jobs is said no more."""
    session.execute(update(JobResult).where(JobResult.run_id == run_id).values(good=None, trusted=None))


def judged_rules(session: Session, run: Run, names: Collection[str]) -> dict[str, int]:
    """By name of a rule, in how many earlier runs of the main branch it was judged, or of the run's own if those are
    more: what settled there holds on every branch and tag.
    """
    main = session.scalar(select(Project.main_branch).where(Project.id == run.project_id))
    there = select(func.count()).where(Run.project_id == run.project_id, Run.number < run.number)

    def on(branch: str | None, name: str) -> int:
        here = there.where(Run.context == f"{EventKind.PUSH} {branch}", as_json(Run.judged).contains([{"name": name}]))
        return session.scalar(here) or 0

    return {name: max(on(branch, name) for branch in {main, run.branch}) for name in names}


def runs_with_ids(session: Session, ids: Iterable[int]) -> dict[int, Run]:
    wanted = list(ids)
    return {r.id: r for r in session.scalars(select(Run).where(Run.id.in_(wanted)))} if wanted else {}


def newest_with_plan(session: Session, project_id: int, commits: Sequence[str], digest: str) -> int:
    """The number of the newest run of these commits whose plan was this one; 0 without one."""
    if not commits:
        return 0
    query = select(func.max(Run.number)).where(Run.project_id == project_id, Run.commit.in_(commits))
    return session.scalar(query.where(Run.plan_digest == digest, Run.context != "")) or 0


def newest_clear_of(session: Session, project_id: int, commits: Sequence[str], but: int) -> Run | None:
    """On the first of these commits that has one, the newest run whose verdict was clear (or exempt) for a push."""
    if not commits:
        return None
    query = select(Run).where(Run.project_id == project_id, Run.commit.in_(commits), Run.id != but)
    query = query.where(Run.context.startswith(f"{EventKind.PUSH} "), Run.plan_digest.is_not(None))
    rows = session.scalars(query.where(Run.verdict != Verdict.UNDECIDED).order_by(Run.number)).all()
    newest = {(r.commit, r.context): r for r in rows}
    for commit in commits:
        here = [r for (c, _), r in newest.items() if c == commit and r.verdict != Verdict.NONE]
        if here and all(r.verdict in (Verdict.CLEAR, Verdict.EXEMPT) for r in here):
            return max(here, key=lambda r: r.number)
    return None


def newest_planned(session: Session, run: Run, commit: str) -> Run | None:
    """The newest other run of a commit, for a push, that has a plan."""
    query = select(Run).where(Run.project_id == run.project_id, Run.commit == commit, Run.id != run.id)
    query = query.where(Run.context.startswith(f"{EventKind.PUSH} "), Run.plan_digest.is_not(None))
    return session.scalars(query.order_by(Run.number.desc()).limit(1)).first()


# --- accepted, and lasting --------------------------------------------------------------------------


def acceptances(session: Session, project_id: int, kind: str) -> Sequence[Acceptance]:
    query = select(Acceptance).where(Acceptance.project_id == project_id, Acceptance.kind == kind)
    return session.scalars(query.order_by(Acceptance.id)).all()


def acceptances_in(session: Session, project_id: int, run: int) -> Sequence[Acceptance]:
    """What was accepted in the run of this number."""
    query = select(Acceptance).where(Acceptance.project_id == project_id, Acceptance.run == run)
    return session.scalars(query.order_by(Acceptance.id)).all()


def lasting_at(session: Session, project_id: int, commits: Sequence[str], most: int) -> Sequence[Lasting]:
    """Tests that were less than before at one of these commits, a line of ancestors, and came back at none; the newest
    first.
    """
    query = select(Lasting).where(Lasting.project_id == project_id, Lasting.commit.in_(commits))
    query = query.where(~Lasting.back.overlap(cast(list(commits), ARRAY(Text))))
    return session.scalars(query.order_by(Lasting.since.desc(), Lasting.test).limit(most)).all()


def begin_lasting(session: Session, rows: Sequence[dict[str, Any]]) -> None:
    """Note tests that are less than they were since a run; those noted already stay as they are."""
    if rows:
        session.execute(insert(Lasting).on_conflict_do_nothing(), rows)


def settle_lasting(session: Session, project_id: int, tests: Collection[int], commit: str) -> None:
    """These tests are missed no more from a commit on."""
    query = select(Lasting).where(Lasting.project_id == project_id, Lasting.test.in_(tests))
    for row in session.scalars(query) if tests else ():
        row.back = [*row.back, commit]
