"""Reuse: the same content has the same answer."""

from __future__ import annotations

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from myriant.core.plan.versions import offered_names, version_key
from myriant.store.runs import answers_to, runners_in_touch
from myriant.store.tables import Cell, Run


def reuse_answers(session: Session, run: Run) -> None:
    """Take over results of the same content: tree, plan, steps and exact runtimes."""
    cells = session.scalars(
        select(Cell).where(Cell.run_id == run.id, Cell.state == "waiting", Cell.content.is_not(None))
    ).all()
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
        cell.state, cell.attempt_id, cell.reused = other.state, attempt.id, number
        cell.mark, cell.reason = {"failed": "new"}.get(other.state, other.state), f"same content as #{number}"
        cell.counts = {k: v for k, v in other.counts.items() if k not in ("new", "known", "fixed", "vanished", "first")}
        taken.add(number)
    if taken and not session.scalar(
        select(func.count()).where(Cell.run_id == run.id, Cell.state == "waiting", ~Cell.gated)
    ):
        run.state, run.started_at = "running", func.now()


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
