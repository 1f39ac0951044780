"""The search for the first bad commit: tries of commits in one cell, as control runs."""

from __future__ import annotations

from sqlalchemy.orm import Session

from myriant.core.diagnosis import search as core
from myriant.core.states import ControlState, Place, SearchState
from myriant.flow.ask.search import (
    MOST_AT_ONCE,
    SearchView,
    chances_of,
    false_alarm,
    named_run,
    range_of,
    search_view,
    tries_of,
)
from myriant.flow.errors import NotFound
from myriant.flow.site import Site
from myriant.flow.state import controls, searches
from myriant.flow.who import Person
from myriant.store.changes import ring_runners, tell
from myriant.store.controls import search_for, searches_without_tries
from myriant.store.tables import Control, Search

_MOST_LOST = 6  # tries without an answer after which a search gives up


def begin_search(site: Site, name: str, number: int, test: int, who: Person) -> SearchView:
    """Begin a search, or go on with one that was stopped. Raises NotFound, Refused."""
    with site.store.transaction() as session:
        project, run = named_run(session, name, number)
        session.refresh(run, with_for_update=True)
        row = search_for(session, run.id, test)
        if row is None:
            found = range_of(site, session, project, run, test)
            chances = chances_of(session, project, test)
            row = Search(
                run_id=run.id, cell_id=found.cell.id, test=test, commits=found.commits, slots=MOST_AT_ONCE,
                missed=chances.missed, state=SearchState.RUNNING, by=who.name,
            )  # fmt: skip
            session.add(row)
            session.flush()
        elif row.state in (SearchState.STOPPED, SearchState.GIVEN_UP):
            searches.go_on(row)
        _go_on(session, row)
        tell(session, "run", project.name, run.number)
        return search_view(site, session, project, row)


def stop_search(site: Site, name: str, number: int, test: int) -> SearchView:
    """Plan no more tries; what has been tried is kept, and a search begun again goes on from there."""
    with site.store.transaction() as session:
        project, run = named_run(session, name, number)
        row = search_for(session, run.id, test)
        if row is None:
            raise NotFound("there is no such search")
        searches.stop(row)
        controls.give_up_tries(session, row.id)
        tell(session, "run", project.name, run.number)
        return search_view(site, session, project, row)


def go_on(site: Site, search_id: int) -> None:
    """Look at what a search knows after one of its tries has ended, and plan the next ones. Safe to repeat."""
    with site.store.transaction() as session:
        row = session.get(Search, search_id, with_for_update=True)
        if row is not None and row.state == SearchState.RUNNING:
            _go_on(session, row)


def go_on_with_searches(site: Site) -> None:
    """Plan the next tries of searches that wait for none: a runner may have been lost with the last one."""
    with site.store.transaction() as session:
        for row in searches_without_tries(session):
            _go_on(session, row)


def _go_on(session: Session, row: Search) -> None:
    tried, running, lost = tries_of(session, row)
    chances = core.Chances(row.missed, false_alarm(row.missed))
    if lost >= _MOST_LOST:
        searches.end(row, found=False, said=f"{lost} tries gave no result that can be trusted")
        return
    wanted = core.next_tries(len(row.commits), tried, max(0, row.slots - len(running)), chances, running)
    for at in wanted:
        session.add(
            Control(
                run_id=row.run_id, cell_id=row.cell_id, place=Place.SEARCH, commit=row.commits[at],
                state=ControlState.WAITING,
                search_id=row.id,
            )
        )  # fmt: skip
    if wanted:
        session.flush()
        ring_runners(session)
    elif not running:
        at, chance = core.found(len(row.commits), tried, chances)
        said = f"{row.commits[at][:7]} is the first bad commit, with {chance:.1%} certainty after {len(tried)} tries"
        searches.end(row, found=chance >= core.CONFIDENCE or len(row.commits) == 1, said=said)
