"""Versions: what each value of a dimension found and costs, what would be without it, and the plan's edit for it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from sqlalchemy.orm import Session

from myriant.core.gate.contexts import push_to
from myriant.core.plan.matrix_change import CannotChange, changed_matrix, standing_of, tested_values
from myriant.core.plan.model import Job, Plan
from myriant.core.plan.versions import version_key
from myriant.core.trends.beside import Beside, beside
from myriant.core.trends.versions import CellTotal, ValueRecord, records
from myriant.core.trends.without import Without, without
from myriant.core.written import counted, duration
from myriant.flow.diagnose.breaks import breaks_in
from myriant.flow.naming import the_project
from myriant.flow.plans import plan_of_run
from myriant.flow.site import Site
from myriant.flow.standing_plan import standing_plan
from myriant.flow.views.lines import in_plan_order
from myriant.store.runners import runners_in_touch
from myriant.store.runs import newest_planned_push
from myriant.store.tables import Project
from myriant.store.trends import Past, cell_totals, past_on

MOST_COMPARED = 500  # runs over whose cells versions are compared
_USUAL = 300


@dataclass(frozen=True, slots=True)
class VersionLine:
    """A value with its record, and how it stands in the newest plan."""

    record: ValueRecord
    state: str  # binding, advisory, nights, gone
    offered: bool  # some runner in touch has it; true of what is no runtime


@dataclass(frozen=True, slots=True)
class NewVersion:
    """A version that runners have and no cell of a job tests, newer than all that are."""

    job: str
    dimension: str
    value: str
    runners: list[str]


@dataclass(frozen=True, slots=True)
class Versions:
    branch: str
    said: str
    runs: int
    minutes: float  # of runners, over these runs
    lines: list[VersionLine]
    new: list[NewVersion]


@dataclass(frozen=True, slots=True)
class MissedBreak:
    number: int
    title: str


@dataclass(frozen=True, slots=True)
class WhatIf:
    """What the past says of a change, in sentences, and the plan's text with it."""

    said: list[str]
    missed: list[MissedBreak]
    text: str | None
    cannot: str  # why the text is not changed by itself
    base: str
    commit: str | None
    branch: str


def versions_of(site: Site, name: str, most: int = _USUAL) -> Versions:
    """What each value of the main branch's matrix found, over its newest judged runs. Raises NotFound."""
    with site.store.view() as session:
        project = the_project(session, name)
        cells, past = past_cells(session, project, most)
        newest = newest_planned_push(session, project.id, project.main_branch)
        plan = plan_of_run(session, newest) if newest is not None else None
        offers = {r.name: set(r.offers) for r in runners_in_touch(session)}
    every = {offer for mine in offers.values() for offer in mine}
    found = records(cells)
    lines = [
        VersionLine(
            r, standing_of(_job(plan, r.job), r.dimension, r.value, project.main_branch), _is_offered(plan, r, every)
        )
        for r in found
    ]
    minutes = sum(c.seconds for c in cells) / 60
    return Versions(project.main_branch, _said(lines, len(past)), len(past), minutes, lines, _new(plan, offers))


def what_if(site: Site, name: str, job: str, dimension: str, value: str, change: str, most: int = _USUAL) -> WhatIf:
    """What would have been missed, or in the way, with a value of a dimension changed so, over the same runs as
    `versions_of`. Raises NotFound.
    """
    stands = standing_plan(site, name)
    with site.store.view() as session:
        project = the_project(session, name)
        cells, past = past_cells(session, project, most)
    try:
        text, cannot = changed_matrix(stands.text, job, dimension, value, change), ""
    except CannotChange as error:
        text, cannot = None, str(error)
    told = without(cells, job, dimension, value)
    numbers = told.failed if change == "promote" else told.missed
    missed = (
        [MissedBreak(n, past[n].title if n in past else "") for n in numbers[-50:][::-1]] if change != "add" else []
    )
    said = _sentences(told, change, value)
    if text is not None and text.count("[[events.schedule]]") > stands.text.count("[[events.schedule]]"):
        said.append("The plan has no schedule yet: with this every job runs once a night.")
    return WhatIf(said, missed, text, cannot, stands.text, stands.commit, stands.branch)


@dataclass(frozen=True, slots=True)
class TwoValues:
    """Two values of a dimension beside each other, in a sentence and in numbers."""

    said: str
    told: Beside


def two_values(site: Site, name: str, job: str, dimension: str, one: str, other: str, most: int = _USUAL) -> TwoValues:
    """What one value of a dimension failed and took where the other did too. Raises NotFound."""
    with site.store.view() as session:
        cells, _ = past_cells(session, the_project(session, name), most)
    told = beside(cells, job, dimension, one, other)
    return TwoValues(_said_of_two(told), told)


def _said_of_two(b: Beside) -> str:
    if not b.runs:
        return f"No judged run has cells of {b.job} that differ in {b.one} and {b.other} alone."
    over = f"Over {counted(b.runs, 'run')} with both"
    failed = [f"{b.one} alone failed in {b.only_one}", f"{b.other} alone in {b.only_other}", f"both in {b.both}"]
    more = f"; {b.fails_more} fails more, beyond chance" if b.fails_more else ""
    if b.ratio is None:
        return f"{over}, {', '.join(failed)}{more}."
    share = abs(b.ratio - 1) * 100
    if b.slower and share >= 1:
        times = f"a cell with {b.one} takes {share:.0f} % {'longer' if b.ratio > 1 else 'less'} than one with {b.other}"
    else:
        times = "their times differ by no more than chance"
    return f"{over}, {', '.join(failed)}{more}; {times}."


def past_cells(session: Session, project: Project, most: int) -> tuple[list[CellTotal], dict[int, Past]]:
    """The cells of the newest judged runs of the main branch, oldest run first, and these runs."""
    rows = past_on(session, project.id, str(push_to(project.main_branch)), most)
    broke = breaks_in(session, project, [row.id for row in reversed(rows)])
    number = {row.id: row.number for row in rows}
    ordered: dict[tuple[str, str], dict[str, str]] = {}
    found = []
    for run, job, key, values, advisory, seconds, failed in cell_totals(session, list(number)):
        new = failed if advisory else (run, job, key) in broke
        if (job, key) not in ordered:
            ordered[job, key] = in_plan_order(key, values)
        found.append(CellTotal(number[run], job, ordered[job, key], advisory, new, seconds, failed))
    found.sort(key=lambda c: c.run)
    return found, {row.number: row for row in rows}


def _job(plan: Plan | None, name: str) -> Job | None:
    return plan.find(name) if plan is not None else None


def _is_runtime(plan: Plan | None, job: str, dimension: str) -> bool:
    found = _job(plan, job)
    return found is not None and dimension in found.runtime


def _is_offered(plan: Plan | None, record: ValueRecord, offers: set[str]) -> bool:
    return not _is_runtime(plan, record.job, record.dimension) or f"{record.dimension} {record.value}" in offers


def _new(plan: Plan | None, offers: Mapping[str, set[str]]) -> list[NewVersion]:
    """Versions of runtimes that are varied, newer than those tested, written as exactly as these are."""
    found = []
    for job in plan.jobs if plan is not None else ():
        for dimension in job.vary:
            values = tested_values(job, dimension)
            if dimension not in job.runtime or not values:
                continue
            newest = max(values, key=version_key)
            have: dict[str, list[str]] = {}
            for runner, mine in offers.items():
                for offer in mine:
                    family, _, version = offer.partition(" ")
                    if family == dimension and version.count(".") == newest.count(".") and _is_newer(version, newest):
                        have.setdefault(version, []).append(runner)
            found += [NewVersion(job.id, dimension, v, sorted(have[v])) for v in sorted(have, key=version_key)]
    return found


def _is_newer(version: str, than: str) -> bool:
    return version[:1].isdigit() and version_key(version) > version_key(than)


def _said(lines: Sequence[VersionLine], runs: int) -> str:
    if not lines:
        return "Nothing is known yet of what each version finds: no judged run of the main line varies anything."
    alone = sum(line.record.alone > 0 for line in lines)
    over = f"over the newest {counted(runs, 'run')}"
    if not alone:
        return f"None of {counted(len(lines), 'value')} found a break that no other did, {over}."
    return f"{alone} of {counted(len(lines), 'value')} found a break that no other did, {over}."


def _sentences(told: Without, change: str, value: str) -> list[str]:
    if change == "add":
        return [f"Cells with {value} run and inform, and hold nothing, until somebody makes them bind."]
    if not told.runs:
        return [f"No judged run has cells with {value}: nothing is known of it."]
    if change == "promote":
        n = len(told.failed)
        way = (
            f"Cells with it failed in {n} of the {counted(told.runs, 'run')} in which they ran"
            if n
            else (f"No cell with it failed in the {counted(told.runs, 'run')} in which they ran")
        )
        return [f"{way}; binding, {'each could have held its run' if n else 'it would have held none'}."]
    verb = {"retire": "missed", "nights": "seen only the night after", "advisory": "let through"}[change]
    count = len(told.missed)
    if not told.breaks:
        said = [
            f"Nothing broke in the {counted(told.runs, 'run')} in which {value} ran: nothing speaks for it, "
            "and nothing against it."
        ]
    else:
        bound = (
            f"; with 95 % certainty it alone finds at most {_bound(told.at_most)} of them" if told.at_most < 1 else ""
        )
        said = [
            f"In {told.breaks} of {counted(told.runs, 'run')} something broke: it would have {verb} "
            f"{'those of ' + str(count) if count else 'none of them'}{bound}."
        ]
    if change == "advisory":
        return [*said, "It saves no time: its cells run all the same."]
    saved = f"It saves {duration(told.seconds)} of runners a run, {told.share * 100:.0f} % of the job"
    return [*said, f"{saved}{', but for the nights' if change == 'nights' else ''}."]


def _bound(share: float) -> str:
    """A bound, rounded so that it stays one."""
    return f"{min(100, int(share * 100) + (share * 100 > int(share * 100)))} %"
