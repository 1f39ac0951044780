"""Stopping: what of a run still waits or runs is ended."""

from __future__ import annotations

from myriant.core.states import OPEN, Why
from myriant.core.written import counted
from myriant.flow.naming import the_project, the_run
from myriant.flow.site import Site
from myriant.flow.state import runs
from myriant.flow.state.advance import tell_gated
from myriant.flow.state.stopping import stop_cells
from myriant.flow.who import Person
from myriant.store.cells import cells_of, open_cells_of
from myriant.store.changes import tell_of_run
from myriant.store.runs import open_runs_of_strangers, seconds_of_pull


def stop_run(site: Site, project_name: str, number: int, who: Person) -> int:
    """End what of a run still waits or runs; how many cells that were. The verdict says who stopped it.

    A run whose plan was not read yet ends when it is.
    """
    reason = f"stopped by {who.name}"
    if _was_unread(site, project_name, number, reason):
        return 0
    with site.store.transaction() as session:
        run = the_run(session, the_project(session, project_name), number)
        open_now = [c for c in cells_of(session, run.id) if c.state in OPEN]
        stop_cells(session, run, open_now, Why.BY_PERSON, reason)
        if open_now and run.ended_at is not None:
            tell_gated(session, run, cells_of(session, run.id))
    return len(open_now)


def stop_overspent(site: Site) -> None:
    """End what goes on of strangers' pull requests that have taken all the minutes that they may."""
    with site.store.transaction() as session:
        for run, minutes in open_runs_of_strangers(session):
            if seconds_of_pull(session, run.project_id, run.pull_request or 0) >= minutes * 60:
                reason = f"a stranger's pull request takes at most {counted(minutes, 'minute')} of runners here"
                stop_cells(session, run, open_cells_of(session, run.id), Why.BY_PERSON, reason)


def _was_unread(site: Site, project_name: str, number: int, reason: str) -> bool:
    """Whether its plan is still to be read, and will find that it was stopped. The lock is given back before any
    attempt's is taken.
    """
    with site.store.transaction() as session:
        run = the_run(session, the_project(session, project_name), number)
        session.refresh(run, with_for_update=True)
        unread = run.plan_digest is None and run.ended_at is None and not cells_of(session, run.id)
        if unread:
            runs.stop_unread(run, reason)
            tell_of_run(session, run)
        return unread
