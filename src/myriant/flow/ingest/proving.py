"""Whether what a run made arrived where a job behind the verdict brought it."""

from __future__ import annotations

from dataclasses import asdict

from sqlalchemy.orm import Session

from myriant.core.plan.model import Job
from myriant.core.release.proof import proven, unproven
from myriant.core.states import State
from myriant.core.written import step_called
from myriant.flow.logs import chunk_bytes
from myriant.flow.site import Site
from myriant.store.attempts import steps_of
from myriant.store.logs import chunks_within
from myriant.store.releases import made_in
from myriant.store.tables import Attempt, Run

MOST_PRINTED = 4 << 20  # bytes of a step's end that are looked at


def lacks_proof(site: Site, session: Session, run: Run, job: Job, attempt: Attempt) -> list[str]:
    """Why an attempt whose steps ended well proves nothing, for each step that should; what was found is kept."""
    if not any(step.proves for step in job.steps):
        attempt.proof = None
        return []
    told, reasons = [], []
    for step in steps_of(session, attempt.id):
        globs = job.steps[step.position].proves if step.position < len(job.steps) else ()
        if not globs or step.state is State.SKIPPED:
            continue
        start, end = step.log_from or 0, step.log_to or 0
        start = max(start, end - MOST_PRINTED)
        printed = bytearray()
        for chunk in chunks_within(session, attempt.id, start, end):
            printed += chunk_bytes(site, chunk)[max(0, start - chunk.offset) : end - chunk.offset]
        rows = proven(globs, [(m.path, m.digest) for m in made_in(session, [run.id])], bytes(printed))
        told += [asdict(row) for row in rows]
        if why := unproven(step_called(step.name), globs, rows):
            reasons.append(why)
    attempt.proof = told or None
    return reasons
