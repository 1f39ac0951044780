"""Approvals: the word that a job waits for."""

from __future__ import annotations

from sqlalchemy.orm import Session

from myriant.flow.compare.released import what_it_would_release
from myriant.flow.errors import NotFound, Refused
from myriant.flow.naming import the_project
from myriant.flow.plans import plan_of_run
from myriant.flow.site import Site
from myriant.flow.state import approvals
from myriant.flow.state.advance import advance
from myriant.flow.who import Person
from myriant.store.audit import record
from myriant.store.changes import tell
from myriant.store.runs import run_numbered
from myriant.store.tables import Approval, PullRequest, Run

MOST_REASON = 2000


def _author(session: Session, run: Run) -> str:
    pull = session.get(PullRequest, (run.project_id, run.pull_request))
    return pull.author if pull is not None else ""


def give_word(
    site: Site, project_name: str, number: int, job: str, who: Person, reason: str = "", *, given: bool
) -> None:
    """Give or refuse the approval that a job waits for. Raises NotFound, Refused."""
    with site.store.transaction() as session:
        project = the_project(session, project_name)
        run = run_numbered(session, project.id, number)
        word = session.get(Approval, (run.id, job), with_for_update=True) if run is not None else None
        plan = plan_of_run(session, run) if run is not None else None
        if run is None or word is None or plan is None:
            raise NotFound(f"#{number} has no job {job[:80]} that waits for an approval")
        wanted = plan.job(job).approval
        if wanted is None or not ({who.name, who.role} & set(wanted.by) or who.may("maintainer")):
            raise Refused(f"{job} waits for the word of {' or '.join(wanted.by) if wanted else 'nobody'}")
        if run.pull_request is not None and who.name in (run.author, _author(session, run)):
            raise Refused("nobody approves a change of their own", "another maintainer gives the word")
        approvals.say(word, who.name, reason.strip()[:MOST_REASON], given=given)
        what = f"#{run.number} {job}, {what_it_would_release(session, run)}"
        said = f"{what}: {reason.strip()}" if reason.strip() else what
        record(session, project.id, who.name, "approved" if given else "refused", said)
        session.flush()
        session.refresh(run, with_for_update=True)
        advance(session, run, plan)
        tell(session, "run", project.name, run.number)
