"""Stopping: what of a run still waits or runs is ended."""

from __future__ import annotations

from myriant.core.states import OPEN, Why
from myriant.flow.errors import NotFound
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.state.advance import tell_gated
from myriant.flow.state.stopping import stop_cells
from myriant.flow.who import Person
from myriant.store.runs import cells_of, run_numbered


def stop_run(site: Site, project_name: str, number: int, who: Person) -> int:
    """End what of a run still waits or runs; how many cells that were. The verdict says who stopped it."""
    with site.store.transaction() as session:
        project = the_project(session, project_name)
        run = run_numbered(session, project.id, number)
        if run is None:
            raise NotFound(f"there is no run #{number}")
        open_now = [c for c in cells_of(session, run.id) if c.state in OPEN]
        stop_cells(session, run, open_now, Why.BY_PERSON, f"stopped by {who.name}")
        if open_now and run.ended_at is not None:
            tell_gated(session, run, cells_of(session, run.id))
    return len(open_now)
