"""Announce, beyond the note: what is to be told on each of a project's ways, once."""

from __future__ import annotations

import json
from collections.abc import Sequence
from dataclasses import replace
from fractions import Fraction
from statistics import median

from sqlalchemy.orm import Session

from myriant.core.coverage.model import Totals
from myriant.core.gate.contexts import parse_context
from myriant.core.gate.measures import share_passed
from myriant.core.plan.globs import matches
from myriant.core.states import DECIDED, DeliveryState, State, Verdict
from myriant.core.telling.news import News, Outcome, news
from myriant.core.telling.outcome import outcome_text
from myriant.core.written import counted, duration, percent
from myriant.flow.announce.people import AUTHORS, concerned, is_split
from myriant.flow.sealing import as_sealed, opened
from myriant.flow.site import Site
from myriant.flow.state.deliveries import pass_over
from myriant.store.cells import cells_of
from myriant.store.coverage import coverage_totals_of
from myriant.store.outcomes import remember_outcome
from myriant.store.queue import OUTWARD, defer
from myriant.store.records import Measures, Telling
from myriant.store.runs import decided_before
from myriant.store.tables import Delivery, Project, Run, Way
from myriant.store.ways import (
    add_delivery,
    failing_signatures,
    is_newest_decided,
    last_told,
    receivers_since_clear,
    ways_of,
)

MOST_FAILING = 5000  # signatures that are kept to tell more of them from the same ones
_TOLD = (*DECIDED, Verdict.EXEMPT, Verdict.UNDECIDED)


def tell_ways(site: Site, run_id: int) -> None:
    """Note what is to be told of a run on each way, beside what was told there last; twice is as once."""
    with site.store.transaction() as session:
        run = session.get(Run, run_id)
        if run is None or not run.context or run.verdict not in _TOLD or run.batch_id is not None:
            return
        remember_outcome(session, run)
        ways = [w for w in ways_of(session, run.project_id) if w.on and not w.morning and is_for(w, run)]
        if not ways:
            return
        project = session.get_one(Project, run.project_id)
        released = is_released(session, run)
        mailed = any(w.kind == "mail" for w in ways)
        people = concerned(site, session, project, run) if mailed and run.verdict in DECIDED else None
        for way in ways:
            if released and _of_interest(way, News.RELEASED):
                told = values_of(site, session, project, run, News.RELEASED)
                _keep(session, project, run, way, told, f"{run.context}\n{run.number}\nreleased")
            last = last_told(session, way.id, run.context, run.number if way.always else None)
            what = _news(session, run, last)
            told = values_of(site, session, project, run, what)
            if way.kind == "mail":
                heard = receivers_since_clear(session, way.id, run.context) if what is News.CLEARED else ()
                authors, owners = people or ((), ())
                told = replace(told, authors=authors, owners=owners, before=tuple(heard))
            if (way.always and _as_before(told, last)) or (not way.always and what is News.NONE):
                continue
            after = last.id if last is not None else 0
            subject = f"{run.context}\n{run.number}\n{after}"
            wish = json.loads(opened(site.key(), project.id, as_sealed(way.name), way.sealed) or "{}")
            told = replace(told, split=way.kind == "mail" and not way.always and is_split(wish, told, session, run))
            _keep(session, project, run, way, told, subject)
            if told.split:
                _keep(session, project, run, way, told, subject + AUTHORS)


def _keep(session: Session, project: Project, run: Run, way: Way, told: Telling, subject: str) -> None:
    wanted = way.always or _of_interest(way, News(told.news))
    made = add_delivery(
        session,
        way_id=way.id,
        project_id=project.id,
        run=run.number,
        said=_said(told),
        told=told,
        context=run.context,
        subject=subject,
        state=DeliveryState.WAITING if wanted else DeliveryState.UNWANTED,
    )
    if made is not None and wanted:
        if way.always and told.news != News.RELEASED:
            pass_over(session, way.id, run.number, made)
        defer(session, "deliver", queue=OUTWARD, lock=f"way-{way.id}", way_id=way.id)


def _of_interest(way: Way, what: News) -> bool:
    """Whether a way wants to hear of a piece of news; what is held by more is a part of what is held."""
    moment = News.HELD if what is News.MORE else what
    return what is not News.NONE and (way.always or not way.moments or str(moment) in way.moments)


def is_released(session: Session, run: Run) -> bool:
    """Whether what is behind the verdict of a run has passed, all of it."""
    behind = [c for c in cells_of(session, run.id) if c.gated and c.selected and not (c.advisory or c.housekeeping)]
    return run.verdict is Verdict.CLEAR and bool(behind) and all(c.state is State.PASSED for c in behind)


def _as_before(told: Telling, last: Delivery | None) -> bool:
    """Whether the same was told of the run last; while it is pending its words change with every cell."""
    if last is None or last.told.state != told.state:
        return False
    return told.state == "pending" or last.told.sentence == told.sentence


def is_for(way: Way, run: Run) -> bool:
    """Whether a way is for runs of this event and branch."""
    if way.events and run.event not in way.events:
        return False
    branch = run.source if run.pull_request is not None else run.tag or run.branch
    return not way.branches or any(matches("/" + b, branch) for b in way.branches)


def _news(session: Session, run: Run, last: Delivery | None) -> News:
    """What changed since a way was told of the context: judged again or accepted, a run may change its own word."""
    if run.verdict not in DECIDED or not is_newest_decided(session, run):
        return News.NONE
    now = Outcome(Verdict(run.verdict), failing_signatures(session, run.id))
    if last is None or last.told.state not in DECIDED:
        return news(None, now)
    return news(Outcome(Verdict(last.told.state), frozenset(last.told.failing)), now)


def _said(told: Telling) -> str:
    return f"{told.context}: {told.news or told.state}"


def values_of(site: Site, session: Session, project: Project, run: Run, what: News) -> Telling:
    """The named values of a run's outcome."""
    open_ = run.verdict is Verdict.UNDECIDED  # what was measured before it ran again says nothing now
    measures = Measures() if open_ else run.measures
    totals = None if open_ else coverage_totals_of(session, [run.id]).get((run.id, ""))
    new, fixed, total = (
        sum(j.get(m, 0) for j in measures.jobs.values()) for m in ("tests.new", "tests.fixed", "tests.total")
    )
    state = "pending" if open_ else str(run.verdict)
    context = parse_context(run.context)
    return Telling(
        project=project.name,
        number=run.number,
        commit=run.commit,
        short=run.commit[:7],
        title=run.title,
        author=run.author,
        branch=run.branch,
        source=run.source,
        pull_request=run.pull_request,
        base=run.base or "",
        tag=run.tag,
        context=context.said if context else run.context,
        state=state,
        news=str(what),
        sentence=run.sentence or run.reason,
        address=site.run_address(project.name, run.number),
        text=_text(session, run, measures, totals),
        new=new,
        fixed=fixed,
        total=total,
        coverage_line=_percent(totals.line_share if totals else None),
        coverage_changed=_percent(measures.changed_share),
        mail=run.author_mail,
        failing=tuple(sorted(failing_signatures(session, run.id))[:MOST_FAILING]),
    )


def _percent(share: Fraction | None) -> float | None:
    return None if share is None else float(percent(share).removesuffix(" %"))


def _text(session: Session, run: Run, measures: Measures, totals: Totals | None) -> str:
    lines = _lines(session, run, measures, totals) if measures != Measures() else []
    return outcome_text(
        run.sentence or run.reason,
        findings=measures.causes.listed,
        more=measures.causes.more,
        uncovered=measures.uncovered,
        lines=lines,
    )


LAST = 10  # runs of the branch that a number is shown beside


def _lines(session: Session, run: Run, measures: Measures, totals: Totals | None) -> list[str]:
    """One line each for tests, coverage and time: now, at the baseline, and in the branch's last runs."""
    base = session.get(Run, run.baseline_id) if run.baseline_id is not None else None
    past = [r for r in decided_before(session, run, LAST) if r.id != run.id]
    shares = coverage_totals_of(session, [r.id for r in [*past, *([base] if base is not None else [])]])
    lines = []
    ran, share = _ran(measures), share_passed(list(measures.jobs.values()))
    if share is not None:
        was = [f"{_ran(base.measures):,} at run {base.number}"] if base is not None and _ran(base.measures) else []
        lines.append(
            _line(
                f"Tests: {percent(share)} of {counted(ran, 'test')} that ran passed",
                was,
                [_ran(r.measures) for r in past],
                "{:,}",
            )
        )
    if totals is not None and totals.line_share is not None:
        at = shares.get((base.id, "")) if base is not None else None
        was = (
            [f"{percent(at.line_share)} at run {base.number}"]
            if base is not None and at and at.line_share is not None
            else []
        )
        earlier = [shares.get((r.id, "")) for r in past]
        covered = [t.line_share for t in earlier if t is not None and t.line_share is not None]
        said = f"Coverage: {percent(totals.line_share)} of {counted(totals.lines_valid, 'line')}"
        lines.append(_line(said, was, [float(c * 100) for c in covered], "{:.1f} %"))
    if run.took is not None:
        was = [f"{duration(took)} at run {base.number}"] if base is not None and (took := base.took) is not None else []
        times = [t for r in past if (t := r.took) is not None]
        middle = [f"{duration(median(times))} in the middle of the last {len(times)}"] if len(times) > 1 else []
        lines.append(_line(f"Time: {duration(run.took)}", [*was, *middle], [], ""))
    return lines


def _line(said: str, beside: list[str], last: Sequence[float], shown: str) -> str:
    if len(last) > 1:
        low, high = shown.format(min(last)), shown.format(max(last))
        beside = [
            *beside,
            f"{low} to {high} in the last {len(last)} runs" if low != high else f"{low} in the last {len(last)} runs",
        ]
    return f"{said} ({'; '.join(beside)})" if beside else said


def _ran(measures: Measures) -> int:
    return sum(j["tests.passed"] + j["tests.failed"] + j["tests.errored"] for j in measures.jobs.values())
