"""Reuse: the same content has the same answer."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence

from sqlalchemy.orm import Session

from myriant.core.plan.model import Job
from myriant.core.plan.versions import offered_names, version_key
from myriant.core.states import EventKind, State, Why
from myriant.flow.handed_over import handed_to
from myriant.flow.state.cells import take_over
from myriant.flow.state.runs import start
from myriant.store.cells import answers_to, cells_left_to_judge
from myriant.store.runners import runners_in_touch
from myriant.store.tables import Cell, Run

_EVENTS = (EventKind.PUSH, EventKind.PULL_REQUEST, EventKind.TAG)  # schedules and runs by hand never reuse


def see_handed_over(session: Session, run: Run, job: Job, cells: Sequence[Cell]) -> None:
    """Add what was handed over to the content of cells whose turn has come: other files have another answer."""
    wanted = [c for c in cells if c.content is not None]
    if not wanted:
        return
    files = sorted({(f.job, f.key, f.path, f.digest) for f in handed_to(session, run, job)})
    for cell in wanted if files else ():
        cell.content = hashlib.sha256(json.dumps([cell.content, files]).encode()).hexdigest()


def reuse_answers(session: Session, run: Run, cells: Sequence[Cell]) -> None:
    """Take over results of the same content, where nothing is waited for any more.

    The content is the tree, the job's part of the plan, its steps, what is handed over to it; beside it the exact
    runtimes are compared.
    """
    if run.event not in _EVENTS:
        return
    cells = [c for c in cells if c.state == State.WAITING and c.ready and c.content is not None]
    if not cells:
        return
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
