"""Grants: which secrets a job is given, known before anything runs."""

from __future__ import annotations

from sqlalchemy.orm import Session

from myriant.core.plan.globs import matches
from myriant.core.plan.model import Job
from myriant.core.states import EventKind
from myriant.flow.plans import plan_with
from myriant.store.secrets import secrets_named
from myriant.store.tables import Batch, PullRequest, Run, Secret

EVENTS = tuple(e for e in EventKind if e is not EventKind.UPLOAD)


def names_wanted(job: Job) -> list[str]:
    """The secrets that a job or one of its steps asks for."""
    return list(dict.fromkeys([*job.secrets, *(n for step in job.steps for n in step.secrets)]))


def withheld(secret: Secret | None, name: str, run: Run, job: str) -> str:
    """Why a job is not given a secret, empty when it is."""
    if secret is None:
        return f"the project has no secret {name}"
    if secret.jobs and job not in secret.jobs:
        return f"the secret {name} is not for job {job}"
    events = secret.events or [e for e in EVENTS if e is not EventKind.PULL_REQUEST]
    if run.event not in events:
        return f"the secret {name} is not given to {run.event} events"
    branch = run.source if run.event == EventKind.PULL_REQUEST else run.branch
    if secret.branches and not any(matches("/" + b, branch) for b in secret.branches):
        return f"the secret {name} is not given to branch {branch}"
    return ""


def lacking(session: Session, run: Run, job: Job) -> str:
    """Why a job cannot have the secrets it asks for, known before anything runs; empty when it can."""
    wanted = names_wanted(job)
    if not wanted:
        return ""
    known = secrets_named(session, run.project_id, wanted)
    refused = [withheld(known.get(n), n, run, job.id) or ungranted(session, n, run, job.id) for n in wanted]
    return "; ".join(filter(None, refused))


def is_strangers(session: Session, run: Run) -> bool:
    """Whether a run is of a pull request whose author may not write here, or of several with one of those."""
    batch = session.get(Batch, run.batch_id) if run.batch_id is not None else None
    numbers = [a["pull"] for a in batch.asked] if batch is not None else [run.pull_request]
    pulls = [session.get(PullRequest, (run.project_id, n)) for n in numbers if n is not None]
    return any(p is not None and p.stranger for p in pulls)


def ungranted(session: Session, name: str, run: Run, job: str) -> str:
    """Why the target's plan keeps a secret from a pull request: a change cannot ask for more than is granted there."""
    if run.event != EventKind.PULL_REQUEST:
        return ""
    if is_strangers(session, run):
        return f"the secret {name} is not given to a stranger's pull request"
    target = plan_with(session, run.asked_digest)
    granted = next((j for j in target.jobs if j.id == job), None) if target is not None else None
    if granted is not None and name in names_wanted(granted):
        return ""
    return f"the plan on {run.branch} gives job {job} no secret {name}"
