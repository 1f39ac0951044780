"""Reuse: the same content has the same answer."""

from __future__ import annotations

from sqlalchemy.orm import Session

from myriant.core.plan.versions import offered_names, version_key
from myriant.core.states import State, Why
from myriant.flow.state.cells import take_over
from myriant.flow.state.runs import start
from myriant.store.cells import answers_to, cells_left_to_judge, open_cells_of
from myriant.store.runners import runners_in_touch
from myriant.store.tables import Run


def reuse_answers(session: Session, run: Run) -> None:
    """Take over results of the same content: tree, plan, steps and exact runtimes."""
    cells = [c for c in open_cells_of(session, run.id) if c.state == State.WAITING and c.content is not None]
    found = answers_to(session, run, [c.content for c in cells if c.content])
    if not found:
        return
    newest = _newest_runtimes(session)
    taken = set()
    for cell in cells:
        answer = found.get(cell.content or "")
        if answer is None:
            continue
        other, attempt, number = answer
        wants = [w for w in cell.wants if not w.startswith("label ")]
        if attempt.runtimes != {w.partition(" ")[0]: newest.get(w) for w in wants}:
            continue
        take_over(cell, other.state, attempt.id, number, Why.SAME_CONTENT, f"same content as #{number}")
        cell.counts = other.counts.alone()
        taken.add(number)
    if taken and not cells_left_to_judge(session, run.id):
        start(run)


def _newest_runtimes(session: Session) -> dict[str, str]:
    """The exact version that a wish would get now, by the runners in touch."""
    newest: dict[str, str] = {}
    for runner in runners_in_touch(session):
        for r in runner.runtimes:
            for name in [*offered_names(r["version"]), *(["system"] if r.get("system") else [])]:
                wish = f"{r['family']} {name}"
                if wish not in newest or version_key(newest[wish]) < version_key(r["version"]):
                    newest[wish] = r["version"]
    return newest
