"""The morning page of a project: may its latest build be used, and what happened since yesterday evening."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime

from sqlalchemy.orm import Session

from myriant.core.gate.contexts import Context, parse_context
from myriant.core.gate.word import Word
from myriant.core.plan.schedule import ScheduleError, zone_of
from myriant.core.states import DECIDED, EventKind, Verdict
from myriant.core.telling.morning import (
    Build,
    Morning,
    MorningCause,
    ScheduleTold,
    Turned,
    evening_before,
    may_be_used,
    was_missed,
)
from myriant.flow.errors import BadInput
from myriant.flow.naming import the_project
from myriant.flow.plans import plan_of_run
from myriant.flow.site import Site
from myriant.flow.views.findings.answer import findings_of
from myriant.flow.views.findings.model import Finding
from myriant.flow.views.words import words_of
from myriant.store.history import sights_of
from myriant.store.past import decided_between, last_decided_before, newest_in_context
from myriant.store.projects import branch_at, living_contexts, schedules_of
from myriant.store.runs import approvals_waiting, newest_planned_push, runs_by_number, runs_on
from myriant.store.tables import Project, Run

_LOOKED_BACK = 100  # runs of the main line, for the newest that may be used
MOST_CAUSES = 30
_FINE = (Verdict.CLEAR, Verdict.EXEMPT)


def morning(
    site: Site, name: str, zone: str = "UTC", since: datetime | None = None, now: datetime | None = None
) -> Morning:
    """What there is to know in the morning; `since` is else the evening of the last working day in a time zone.

    Raises NotFound, BadInput.
    """
    now = now or datetime.now(UTC)
    try:
        begin = since or evening_before(now, zone_of(zone))
    except ScheduleError as error:
        raise BadInput(str(error), error.mend) from error
    if begin.tzinfo is None:
        raise BadInput("the time has no zone", "write for example 2026-11-27T18:00:00Z")
    with site.store.view() as session:
        project = the_project(session, name)
        branch = project.main_branch
        head = branch_at(session, project.id, branch)
        runs = runs_on(session, project.id, branch, _LOOKED_BACK)
        words = words_of(session, project.id, {r.commit for r in runs} | ({head} if head else set()))
        newest = _build(session, project, next((r for r in runs if r.commit == head), None), words)
        clear = next((r for r in runs if words[r.commit].verdict in _FINE), None)
        last_clear = _build(session, project, clear, words)
        word = words[head] if head else Word()
        usable, said = may_be_used(word, newest, last_clear, branch)
        judged = next((r for r in runs if r.verdict in DECIDED), None)
        turned, still = _turned(session, project, begin)
        schedules = _schedules(session, project, begin, now)
        waiting = [f"#{run} {job}" for p, run, job, _ in approvals_waiting(session) if p == name]
        held = judged.number if judged is not None and judged.verdict is Verdict.HELD else None
    found = findings_of(site, name, held, None) if held is not None else None
    open_ = [f for f in found.findings if f.mark not in ("known", "quarantined")] if found is not None else []
    base = found.baseline.number if found is not None and found.baseline is not None else 0
    causes = _causes(site, name, open_[:MOST_CAUSES], base, held or 0, begin)
    beyond = max(0, len(open_) - MOST_CAUSES) + (found.more if found is not None else 0)
    return Morning(
        name, branch, now, begin, usable, said, newest, last_clear, causes, beyond, turned, still, schedules, waiting
    )


def _build(session: Session, project: Project, run: Run | None, words: dict[str, Word]) -> Build | None:
    """A commit by the run that says its word."""
    if run is None:
        return None
    told = words[run.commit].number
    row = run if told in (0, run.number) else runs_by_number(session, [(project.id, told)])[project.id, told]
    return Build(run.commit, run.title, run.author, row.number, row.sentence or row.reason, row.created_at)


def _turned(session: Session, project: Project, since: datetime) -> tuple[list[Turned], int]:
    """What became held or clear again since a time, and how many stayed held."""
    newest: dict[str, Run] = {}
    for run in decided_between(session, project.id, since):
        newest[run.context] = run
    going_on = living_contexts(session, {(project.id, c) for c in newest})
    before = last_decided_before(session, project.id, list(newest), since)
    found, still = [], 0
    for context, run in newest.items():
        was = before.get(context)
        held = run.verdict is Verdict.HELD
        if (project.id, context) not in going_on or (was is None and not held):
            continue
        if was is not None and was.verdict == run.verdict:
            still += held
            continue
        told = parse_context(context)
        found.append(
            Turned(
                told.said if told else context,
                "held" if held else "clear again",
                run.number,
                run.title,
                run.author,
                run.sentence,
            )
        )
    return sorted(found, key=lambda t: (t.state != "held", -t.run)), still


def _causes(
    site: Site, name: str, findings: Sequence[Finding], base: int, now: int, since: datetime
) -> list[MorningCause]:
    """Each cause by the run that brought it: the first after the gate baseline that saw it; `now` where answers were
    taken over from before it, when the same content was there once.
    """
    with site.store.view() as session:
        project = the_project(session, name)
        seen = sights_of(session, project.id, [f.id for f in findings])
        brought = {f.id: next((s.number for s in seen.get(f.id, ()) if s.number > base), now) for f in findings}
        first = runs_by_number(session, [(project.id, number) for number in brought.values()])
        rows = []
        for f in findings:
            run = first.get((project.id, brought[f.id]))
            where = f"where {f.where}" if f.where else f"{len(f.cells)} of {f.ran_in} cells"
            rows.append(
                MorningCause(
                    f.id,
                    f.title,
                    where,
                    (f.message or f.headline).strip().split("\n")[0][:300],
                    run is not None and run.created_at >= since,
                    f.control == "chance" or f.mark == "flaky",
                    run.number if run is not None else 0,
                    run.author if run is not None else "",
                    f.taken.by if f.taken else "",
                )
            )
        return sorted(rows, key=lambda c: not c.new)


def _schedules(session: Session, project: Project, since: datetime, now: datetime) -> list[ScheduleTold]:
    newest = newest_planned_push(session, project.id, project.main_branch)
    plan = plan_of_run(session, newest) if newest is not None else None
    planned = {s.name: s for s in plan.events.schedules} if plan is not None else {}
    rows = []
    for s in schedules_of(session, project.id):
        context = str(Context(EventKind.SCHEDULE, s.name))
        run = newest_in_context(session, project.id, context, since)
        wanted = planned.get(s.name)
        due = next(wanted.times.after(since), None) if wanted is not None else None
        state = "ran" if run is not None else "missed" if was_missed(due, False, now) else "comes"
        verdict = str(run.verdict) if run is not None and run.verdict is not Verdict.NONE else ""
        told = (run.wish.said, run.gated_said.rstrip(".")) if run is not None else ()
        said = "; ".join(part for part in told if part)
        rows.append(ScheduleTold(s.name, s.words, state, run.number if run else None, verdict, said, s.next_at))
    return rows
