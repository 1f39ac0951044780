"""Questions about pull requests, and what becomes of a lost attempt, on made-up rows."""

from __future__ import annotations

from sqlalchemy import select

from myriant.core.states import ControlState, PullState, State
from myriant.flow.state.attempts import lose
from myriant.store.projects import open_pulls_into, targets_of_pulls
from myriant.store.tables import Attempt, Cell, Control, PullRequest
from worlds import World, stored_project


def test_targets_are_those_of_open_pull_requests(world: World) -> None:
    site = world.site
    project, _ = stored_project(site.store)
    rows = [("north", PullState.OPEN), ("main", PullState.OPEN), ("main", PullState.OPEN), ("south", PullState.CLOSED)]
    with site.store.transaction() as session:
        for number, (target, state) in enumerate(rows, 1):
            session.add(PullRequest(project_id=project, number=number, source=f"s{number}", target=target, state=state))
        session.flush()
        assert targets_of_pulls(session, project) == ["main", "north"]
        assert [p.number for p in open_pulls_into(session, project, "main")] == [2, 3]
        assert open_pulls_into(session, project, "south") == []


def test_a_lost_attempt_of_a_control_run_ends_it_and_leaves_its_cell_alone(world: World) -> None:
    site = world.site
    _, [first] = stored_project(site.store)
    with site.store.transaction() as session:
        cell = session.scalars(select(Cell).where(Cell.attempt_id == first)).one()
        until = session.get_one(Attempt, first).lease_until
        attempt = Attempt(cell_id=cell.id, number=-1, state="running", runner="r", lease_digest="x", lease_until=until)
        session.add(attempt)
        session.flush()
        control = Control(
            run_id=cell.run_id, cell_id=cell.id, place="here", commit="1" * 40, state="running", attempt_id=attempt.id
        )
        session.add(control)
        session.flush()
        lose(session, attempt, "its runner was lost")
        session.flush()
        assert (attempt.state, control.state) == (State.VOID, ControlState.GIVEN_UP)
        assert (cell.state, cell.attempt_id) == (State.PASSED, first)
