"""Announce, beyond the note: what is to be told on each of a project's ways, once."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from fractions import Fraction
from typing import Any

from sqlalchemy.orm import Session

from myriant.core.coverage.model import Totals
from myriant.core.gate.contexts import parse_context
from myriant.core.gate.measures import share_passed
from myriant.core.plan.globs import matches
from myriant.core.states import DECIDED, Verdict
from myriant.core.telling.news import News, Outcome, news
from myriant.core.telling.outcome import Told, outcome_text
from myriant.core.written import counted, duration, percent
from myriant.flow.site import Site
from myriant.store.coverage import coverage_totals_of
from myriant.store.queue import defer
from myriant.store.tables import Project, Run, Way
from myriant.store.ways import (
    add_delivery,
    failing_signatures,
    is_newest_decided,
    last_decided_in,
    pass_over,
    ways_of,
)

_TOLD = (*DECIDED, Verdict.EXEMPT, Verdict.UNDECIDED)


def tell_ways(site: Site, run_id: int) -> None:
    """Note what is to be told of a run on each way. Running twice tells nothing twice."""
    with site.store.transaction() as session:
        run = session.get(Run, run_id)
        if run is None or not run.context or run.verdict not in _TOLD:
            return
        ways = [w for w in ways_of(session, run.project_id) if w.on and _wanted(w, run)]
        if not ways:
            return
        project = session.get_one(Project, run.project_id)
        what = _news(session, run)
        told = values_of(site, session, project, run, what)
        for way in ways:
            if not way.always and what is News.NONE:
                continue
            made = add_delivery(
                session, way_id=way.id, project_id=project.id, run=run.number, said=_said(told), told=told,
                subject=_subject(run, way, what, told),
            )  # fmt: skip
            if made is not None:
                pass_over(session, way.id, run.number, made)
                defer(session, "deliver", lock=f"way-{way.id}", way_id=way.id)


def _wanted(way: Way, run: Run) -> bool:
    branch = run.source if run.pull_request is not None else run.tag or run.branch
    return not way.branches or any(matches("/" + b, branch) for b in way.branches)


def _news(session: Session, run: Run) -> News:
    if run.verdict not in DECIDED or not is_newest_decided(session, run):
        return News.NONE
    before = last_decided_in(session, run)
    now = Outcome(Verdict(run.verdict), failing_signatures(session, run.id))
    if before is None:
        return news(None, now)
    return news(Outcome(Verdict(before.verdict), failing_signatures(session, before.id)), now)


def _subject(run: Run, way: Way, what: News, told: Mapping[str, Any]) -> str:
    """What makes it one thing: a run's outcome in its words, or what is news about it."""
    if not way.always:
        return f"{run.context}\n{run.number}\n{what}"
    words = hashlib.sha256(str(told["sentence"]).encode()).hexdigest()[:16] if told["state"] != "pending" else ""
    return f"{run.context}\n{run.number}\n{told['state']}\n{words}"


def _said(told: Mapping[str, Any]) -> str:
    return f"{told['context']}: {told['news'] or told['state']}"


def values_of(site: Site, session: Session, project: Project, run: Run, what: News) -> dict[str, Any]:
    """The named values of a run's outcome."""
    totals = coverage_totals_of(session, [run.id]).get((run.id, ""))
    changed = run.measures.get("coverage.changed")
    jobs = run.measures.get("jobs", {}).values()
    count = {m: sum(j.get(m, 0) for j in jobs) for m in ("tests.new", "tests.fixed", "tests.total")}
    state = "pending" if run.verdict is Verdict.UNDECIDED else str(run.verdict)
    context = parse_context(run.context)
    return {
        "project": project.name, "number": run.number, "commit": run.commit, "short": run.commit[:7],
        "title": run.title, "author": run.author, "branch": run.branch, "source": run.source,
        "pull_request": run.pull_request, "tag": run.tag, "context": context.said if context else run.context,
        "state": state, "news": str(what), "sentence": run.sentence or run.reason,
        "address": site.run_address(project.name, run.number), "text": _text(run, totals), **count,
        "coverage.line": _percent(totals.line_share if totals else None),
        "coverage.changed": _percent(Fraction(*changed) if changed else None),
        "mail": run.author_mail,
    }  # fmt: skip


def _percent(share: Fraction | None) -> float | None:
    return None if share is None else float(percent(share).removesuffix(" %"))


def _text(run: Run, totals: Totals | None) -> str:
    causes = run.measures.get("causes", {})
    jobs = list(run.measures.get("jobs", {}).values())
    share = share_passed(jobs)
    lines = []
    if share is not None:
        ran = sum(j["tests.passed"] + j["tests.failed"] + j["tests.errored"] for j in jobs)
        lines.append(f"Tests: {percent(share)} of {counted(ran, 'test')} passed")
    if totals is not None and totals.line_share is not None:
        lines.append(f"Coverage: {percent(totals.line_share)} of {counted(totals.lines_valid, 'line')}")
    if run.started_at and run.ended_at:
        lines.append(f"Time: {duration((run.ended_at - run.started_at).total_seconds())}")
    return outcome_text(
        run.sentence or run.reason, findings=[Told(**c) for c in causes.get("listed", ())],
        more=causes.get("more", 0), uncovered=run.measures.get("uncovered", ()), lines=lines,
    )  # fmt: skip
