"""The search for the first bad commit: tries of commits in one cell, as control runs."""

from __future__ import annotations

from sqlalchemy.orm import Session

from myriant.core.diagnosis import search as core
from myriant.core.states import ControlState, Place, SearchState
from myriant.flow.diagnose.search import (
    MOST_AT_ONCE,
    SearchView,
    begun_search,
    belief_of,
    chances_of,
    known_of,
    named_run,
    range_of,
    said_of,
    search_view,
)
from myriant.flow.errors import NotFound
from myriant.flow.site import Site
from myriant.flow.state import controls, searches
from myriant.flow.who import Person
from myriant.store.changes import ring_runners, tell
from myriant.store.controls import searches_without_tries
from myriant.store.tables import Control, Search

_MOST_LOST = 6  # tries without an answer after which a search gives up


def begin_search(site: Site, name: str, number: int, test: int, who: Person, finding: str = "") -> SearchView:
    """Begin a search, or go on with one that was stopped. Raises NotFound, Refused."""
    with site.store.transaction() as session:
        project, run = named_run(session, name, number)
        session.refresh(run, with_for_update=True)
        row = begun_search(session, run, test, finding)
        if row is None:
            found = range_of(site, session, project, run, test, finding)
            random, rate = chances_of(session, project, found, run, test)
            row = Search(
                run_id=run.id,
                cell_id=found.cell.id,
                test=test,
                good=found.good,
                commits=found.commits,
                slots=MOST_AT_ONCE,
                random=random,
                rate=rate,
                state=SearchState.RUNNING,
                by=who.name,
            )
            session.add(row)
            session.flush()
        elif row.state in (SearchState.STOPPED, SearchState.GIVEN_UP):
            searches.go_on(row)
        _go_on(session, row)
        tell(session, "run", project.name, run.number)
        return search_view(site, session, project, row)


def stop_search(site: Site, name: str, number: int, test: int, finding: str = "") -> SearchView:
    """Plan no more tries; what has been tried is kept, and a search begun again goes on from there."""
    with site.store.transaction() as session:
        project, run = named_run(session, name, number)
        row = begun_search(session, run, test, finding)
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
    known = known_of(session, row)
    belief = belief_of(row, known)
    if known.lost >= _MOST_LOST:
        searches.end(row, found=False, said=f"{known.lost} tries gave no result of this test")
        return
    free = max(0, row.slots - len(known.running))
    wanted = core.next_tries(belief, known.tried, free, known.running, with_good=bool(row.good))
    for at in wanted:
        session.add(
            Control(
                run_id=row.run_id,
                cell_id=row.cell_id,
                place=Place.SEARCH,
                commit=row.good if at == core.GOOD else row.commits[at],
                state=ControlState.WAITING,
                search_id=row.id,
            )
        )
    if wanted:
        session.flush()
        ring_runners(session)
    elif not known.running:
        found = belief.found()
        if found.certain and found.at is not None:
            row.answer = row.commits[found.at]
        searches.end(row, found=found.certain, said=said_of(row, known, found))
