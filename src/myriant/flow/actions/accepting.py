"""Accepting: a maintainer says that something less than before may be so, with the reason; the run is judged again."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from sqlalchemy.orm import Session

from myriant.core.written import counted
from myriant.flow.compare.baselines import ancestors, plans_before
from myriant.flow.conclude.lessening import LOOSENED, SKIPPED, VANISHED, subject_of_loosened
from myriant.flow.errors import BadInput, Refused
from myriant.flow.naming import the_project, the_run
from myriant.flow.site import Site
from myriant.flow.state import runs
from myriant.flow.who import Person
from myriant.store.audit import record
from myriant.store.judged import settle_lasting
from myriant.store.projects import branch_at
from myriant.store.tables import Acceptance, Project, Run

MOST_REASON = 2000


@dataclass(frozen=True, slots=True)
class Wish:
    """What is accepted: lines of what the plan asks less, tests by their numbers."""

    reason: str
    loosened: Sequence[str] = field(default_factory=list)
    tests: Sequence[int] = field(default_factory=list)


def accept(site: Site, name: str, number: int, wish: Wish, who: Person) -> int:
    """Accept what a run has less than before; how many things. Raises BadInput, NotFound, Refused."""
    reason = _reason(wish.reason)
    with site.store.transaction() as session:
        project = the_project(session, name)
        run = the_run(session, project, number)
        session.refresh(run, with_for_update=True)
        kinds = {t: what for what in (VANISHED, SKIPPED) for t in run.measures.less.of(what)}
        unknown = [t for t in wish.tests if t not in kinds]
        lines = run.measures.loosened
        odd = [line for line in wish.loosened if line not in lines]
        if unknown or odd or not (wish.tests or wish.loosened):
            what = odd[0] if odd else f"test {unknown[0]}" if unknown else "nothing"
            raise BadInput(f"#{number} has no {what[:200]} to accept", "the run's page lists what can be accepted")
        plans = plans_before(site, session, project, run, ancestors(site, project, run)) if wish.loosened else []
        for line in wish.loosened:
            about = subject_of_loosened(run, line, plans[0].digest if plans else "")
            _keep(session, project, run, LOOSENED, about, reason, who)
        for test in wish.tests:
            _keep(session, project, run, kinds[test], f"{test}\n{run.commit}", reason, who)
        settle_lasting(session, project.id, wish.tests, run.commit)
        total = len(wish.loosened) + len(wish.tests)
        said = "; ".join([*wish.loosened[:20], *([counted(len(wish.tests), "test")] if wish.tests else [])])
        record(session, project.id, who.name, "accepted", f"#{number}: {said}: {reason}")
        runs.call_for_conclusion(session, run, urgent=True)
        return total


def start_from_today(site: Site, name: str, reason: str, who: Person) -> str:
    """Take the head of the main branch as it is: what fails there is known from now on. The commit."""
    reason = _reason(reason)
    with site.store.transaction() as session:
        project = the_project(session, name)
        commit = branch_at(session, project.id, project.main_branch)
        if commit is None:
            raise Refused(f"{project.main_branch} has no commit that is known", "push one first")
        session.add(Acceptance(project_id=project.id, kind="start", subject=commit, run=0, reason=reason, by=who.name))
        record(session, project.id, who.name, "started from today", f"{commit[:12]}: {reason}")
        return commit


def _reason(reason: str) -> str:
    if not reason.strip():
        raise BadInput("accepting needs a reason", "say why it may be so, and where it is followed up")
    return reason.strip()[:MOST_REASON]


def _keep(session: Session, project: Project, run: Run, kind: str, subject: str, reason: str, who: Person) -> None:
    session.add(
        Acceptance(project_id=project.id, kind=kind, subject=subject, run=run.number, reason=reason, by=who.name)
    )
