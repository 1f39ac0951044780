"""What jobs take from other projects: artifacts that a clear run made and its plan offers, chosen once for a run."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from sqlalchemy.orm import Session

from myriant.core.plan.globs import matches
from myriant.core.plan.model import Plan, Take
from myriant.core.states import State, Why
from myriant.flow.plans import plan_of_run
from myriant.flow.state import cells
from myriant.store.cells import cells_of_job
from myriant.store.projects import project_named
from myriant.store.releases import Made, clear_runs_with_artifacts, made_in
from myriant.store.tables import Run

MOST_LOOKED = 20  # clear runs that are looked through for artifacts still kept
MOST_TAKEN = 500  # files of a job


def take_artifacts(session: Session, run: Run, plan: Plan) -> dict[str, str]:
    """Choose what the run's jobs take; by job, why something cannot be taken."""
    run.taken, missing = [], {}
    for job in plan.jobs:
        for take in job.takes:
            found, why = _chosen(session, take)
            if why:
                missing[job.id] = why
                break
            run.taken = [*run.taken, *({"job": job.id, **row} for row in found)]
    return missing


def require_taken(session: Session, run: Run, missing: Mapping[str, str]) -> None:
    """Void the cells of jobs that are not given what they take, before anything runs."""
    for job, why in missing.items():
        for cell in cells_of_job(session, run.id, job):
            if cell.state == State.WAITING:
                cells.void(cell, Why.EXPECTATION, why)


def _chosen(session: Session, take: Take) -> tuple[list[dict[str, Any]], str]:
    """The files, or why there are none."""
    project = project_named(session, take.project)
    of = f"a clear run of a tag {take.tag}" if take.tag else "a clear run of its main branch"
    if project is None:
        return [], f"nothing can be taken from {take.project[:80]}: there is no such project"
    every = clear_runs_with_artifacts(session, project.id, project.main_branch, tagged=bool(take.tag), most=MOST_LOOKED)
    runs = [r for r in every if not take.tag or matches(take.tag, r.tag)]
    if not runs:
        return [], f"nothing can be taken from {take.project}: it has no artifact of {of}"
    for newest in runs:
        offered = _offered(session, newest, take)
        if all(any(matches(glob, m.path) for m in offered) for glob in take.files) and len(offered) <= MOST_TAKEN:
            keys: dict[str, set[str]] = {}
            for m in offered:
                keys.setdefault(m.job, set()).add(m.key)
            return [
                {
                    "project": take.project,
                    "run": newest.number,
                    "made_by": m.job,
                    "path": m.path,
                    "key": m.key if len(keys[m.job]) > 1 else "",
                    "digest": m.digest,
                    "report": m.report,
                }
                for m in offered
            ], ""
    who = f"job {take.job}" if take.job else "its jobs"
    return (
        [],
        f"nothing can be taken from {take.project}: {of} with {', '.join(take.files)}, kept and offered by {who}, is missing",  # noqa: E501
    )


def _offered(session: Session, run: Run, take: Take) -> Sequence[Made]:
    """What cells of a run that passed made of the wanted files, where its plan offers them and they are kept still."""
    plan = plan_of_run(session, run)
    globs = {j.id: [g for a in j.artifacts if a.offer for g in a.files] for j in plan.jobs} if plan is not None else {}
    return [
        m
        for m in made_in(session, [run.id])
        if m.kept
        and m.passed
        and (not take.job or m.job == take.job)
        and any(matches(g, m.path) for g in globs.get(m.job, ()))
        and any(matches(g, m.path) for g in take.files)
    ]
