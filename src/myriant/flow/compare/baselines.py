"""Baselines: for each job the ancestor that it is compared with, and what changed since.

A job's baseline is the newest first-parent ancestor at which that job has a trusted result that held nobody up. A
pull request is compared with its target's head, whatever is said of it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from sqlalchemy.orm import Session

from myriant.core.gate.contexts import EVIDENCE, push_to
from myriant.core.gate.loosened import loosened
from myriant.core.plan.intent import may_excuse
from myriant.core.plan.model import Job, Plan
from myriant.core.states import EventKind
from myriant.flow.plans import plan_with
from myriant.flow.site import Site
from myriant.flow.state.exemptions import lapsed
from myriant.repos.effective_changes import changed_as_read
from myriant.repos.git import GitError
from myriant.store.judged import JobSaid, acceptances, judged_jobs, newest_clear_of, newest_planned, runs_with_ids
from myriant.store.tables import Project, Run

MOST_ANCESTORS = 2000
_PUSH = f"{EventKind.PUSH} "


def ancestors(site: Site, project: Project, run: Run) -> list[str]:
    """Commits that a run can be compared with, nearest first: its first parents, or a pull request's target."""
    try:
        if run.base:
            return site.mirror(project).first_parents(run.base, MOST_ANCESTORS)
        return site.mirror(project).first_parents(run.commit, MOST_ANCESTORS + 1)[1:]
    except GitError:
        return []


def good_baselines(session: Session, run: Run, nearest: Sequence[str], jobs: Iterable[Job]) -> dict[str, Run | None]:
    """By job, the run on the nearest ancestor where the job can be trusted and held nobody up.

    Where several branches judged it there the worst counts; a schedule looks at its own runs first.
    """
    started = {a.subject for a in acceptances(session, run.project_id, "start")}

    at = run.ended_at or datetime.now(UTC)
    over: dict[int, dict[str, str]] = {}

    def stands(s: JobSaid) -> bool:
        """Whether no person's word that a result rests on is over."""
        if s.run_id not in over:
            over[s.run_id] = lapsed(session, session.get_one(Run, s.run_id), at)
        return not over[s.run_id] or not (over[s.run_id].get(s.job) or over[s.run_id].get(""))

    def good(said: Sequence[JobSaid]) -> JobSaid | None:
        newest = _newest(said)
        own = newest.get(run.context) if run.event == EventKind.SCHEDULE else None
        pushes = [s for c, every in newest.items() if c.startswith(_PUSH) for s in every]
        counting = pushes if own is None else own
        fine = counting and all((s.good and stands(s)) or (s.trusted and s.commit in started) for s in counting)
        return max(counting, key=lambda s: s.number) if fine else None

    return _nearest(session, run, nearest, _known_as(jobs), good)


def gate_baselines(session: Session, run: Run, nearest: Sequence[str], jobs: Iterable[Job]) -> dict[str, Run | None]:
    """By job, the run that says which failures are known: the good one; for a pull request the target's own."""
    if not run.base:
        return good_baselines(session, run, nearest, jobs)
    target = str(push_to(run.branch))

    def trusted(said: Sequence[JobSaid]) -> JobSaid | None:
        newest = _newest(s for s in said if s.context.startswith(_PUSH) and s.trusted)
        every = newest.get(target) or [s for some in newest.values() for s in some]
        return max(every, key=lambda s: s.number, default=None)

    return _nearest(session, run, nearest, _known_as(jobs), trusted)


def sent_baselines(session: Session, run: Run, nearest: Sequence[str], jobs: Iterable[str]) -> dict[str, Run | None]:
    """By job, what was sent of it from elsewhere for the nearest ancestor; what was sent is no one's gate."""

    def sent(said: Sequence[JobSaid]) -> JobSaid | None:
        return max((s for s in said if s.trusted and s.context == EVIDENCE), key=lambda s: s.number, default=None)

    return _nearest(session, run, nearest, {job: (job,) for job in jobs}, sent)


def _newest(said: Iterable[JobSaid]) -> dict[str, list[JobSaid]]:
    """By context, what its newest run says: of several jobs, where a job was joined of them."""
    found: dict[str, list[JobSaid]] = {}
    for s in said:
        here = found.setdefault(s.context, [])
        if here and here[0].number < s.number:
            here.clear()
        if not here or here[0].number == s.number:
            here.append(s)
    return found


def _known_as(jobs: Iterable[Job]) -> dict[str, tuple[str, ...]]:
    return {job.id: (job.id, *job.formerly) for job in jobs}


def _nearest(
    session: Session,
    run: Run,
    nearest: Sequence[str],
    names: Mapping[str, tuple[str, ...]],
    choose: Callable[[Sequence[JobSaid]], JobSaid | None],
) -> dict[str, Run | None]:
    said = judged_jobs(session, run.project_id, {n for every in names.values() for n in every}, nearest, run.id)
    chosen: dict[str, int] = {}
    for job, known_as in names.items():
        for commit in nearest:
            own = said.get(job, {}).get(commit, [])
            judged = any(s.context != EVIDENCE for s in own)  # what was only sent hides no result of its former name
            here = own if judged else [s for name in known_as for s in said.get(name, {}).get(commit, ())]
            found = choose(sorted(here, key=lambda s: s.number)) if here else None
            if found is not None:
                chosen[job] = found.run_id
                break
    runs = runs_with_ids(session, set(chosen.values()))
    return {job: runs.get(chosen.get(job, 0)) for job in names}


def changed_for(
    site: Site, project: Project, run: Run, plan: Plan, good: Mapping[str, Run | None]
) -> Mapping[str, tuple[str, ...] | None]:
    """By job, the files that it reads differently than at its own baseline; None without one: nothing excuses it."""
    if not may_excuse(plan):
        return {job.id: None for job in plan.jobs}
    mirror, after = site.mirror(project), run.tested or run.commit
    commits = {job: base.tested or base.commit for job, base in good.items() if base is not None}
    changed = {commit: changed_as_read(mirror, commit, after) for commit in set(commits.values())}
    return {job.id: changed[commits[job.id]] if job.id in commits else None for job in plan.jobs}


@dataclass(frozen=True, slots=True)
class PlanBefore:
    """A plan that a run's own is compared with, and the commit it stands at."""

    digest: str
    commit: str


def plans_before(
    site: Site, session: Session, project: Project, run: Run, nearest: Sequence[str], most: int = 20
) -> list[PlanBefore]:
    """The plans that a run's own is compared with.

    Of a pull request its target's; else the newest clear ancestor's, and before there is one that of the branch's
    head before the push; beside it that of a former head which the push has only merged. Where the run before was
    held because its plan asks less, what that one was compared with lasts, over `most` such runs.
    """
    if run.asked_digest:
        return [PlanBefore(run.asked_digest, run.base or "")]
    base = newest_clear_of(session, project.id, nearest, run.id)
    if base is None:
        base = next((r for c in (run.before, *nearest[:1]) if c and (r := newest_planned(session, run, c))), None)
    merged = merged_head(site, session, project, run, nearest)
    found = [PlanBefore(r.plan_digest or "", r.commit) for r in (base, merged) if r is not None]
    last = newest_planned(session, run, nearest[0]) if nearest and most else None
    if last is not None and last.measures.loosened:
        found += plans_before(site, session, project, last, nearest[1:], most - 1)
    return list({p.digest: p for p in reversed(found) if p.digest}.values())[::-1]


def merged_head(site: Site, session: Session, project: Project, run: Run, nearest: Sequence[str]) -> Run | None:
    """The newest run of the branch's head before a push that holds it, and not as a first parent: a merge the wrong
    way round. What was asked and listed there is compared besides."""
    before = run.before
    if run.event != EventKind.PUSH or not before or before == run.commit or before in nearest:
        return None
    try:
        if not site.mirror(project).is_ancestor(before, run.commit):
            return None
    except GitError:
        return None
    return newest_planned(session, run, before)


def asks_less(site: Site, session: Session, project: Project, run: Run, plan: Plan, nearest: Sequence[str]) -> bool:
    """Whether a run's plan takes something away, accepted or not: then it is judged, though no job has to run."""
    digests = [p.digest for p in plans_before(site, session, project, run, nearest) if p.digest != run.plan_digest]
    plans = (plan_with(session, digest) for digest in digests)
    return any(before is not None and loosened(plan, before) for before in plans)
