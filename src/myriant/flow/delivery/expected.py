"""What the baseline lists for a step: asked by a runner whose step failed only by what is set aside."""

from __future__ import annotations

from myriant.flow.compare.aside import aside_in
from myriant.flow.site import Site
from myriant.flow.state.leases import held
from myriant.store.aside import keys_of_tests
from myriant.store.attempts import steps_of
from myriant.store.tables import Cell, Run


def expected_of_step(site: Site, attempt_id: int, token: str, position: int) -> list[str] | None:
    """Keys of the tests that the baseline lists for a step; None when nothing is known of it. Raises LeaseLost."""
    with site.store.transaction() as session:
        attempt = held(session, attempt_id, token)
        cell = session.get_one(Cell, attempt.cell_id)
        run = session.get_one(Run, cell.run_id)
        name = next((s.name for s in steps_of(session, attempt_id) if s.position == position), "")
        tests = aside_in(session, run, cell).expected(site, session, run, name)
        return None if tests is None else keys_of_tests(session, run.project_id, cell.job, tests)
