"""How much of a folder was covered, run by run of a branch."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from fractions import Fraction

from myriant.core.gate.contexts import push_to
from myriant.core.written import counted, percent
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.store.coverage import shares_below
from myriant.store.trends import Past, past_on

MOST_POINTS = 1000


@dataclass(frozen=True, slots=True)
class CoveragePoint:
    run: int
    commit: str
    title: str
    at: datetime
    covered: int
    valid: int
    share: float | None  # percent; None: nothing of it can be covered
    text: str


@dataclass(frozen=True, slots=True)
class CoverageTrend:
    said: str
    branch: str
    folder: str
    job: str
    points: list[CoveragePoint]  # oldest first
    without: int  # runs that have no coverage of it by file


def coverage_trend(
    site: Site, name: str, folder: str = "", job: str = "", branch: str | None = None, most: int = 120
) -> CoverageTrend:
    """The share of a folder's lines that the runs of a branch covered, merged over the cells of a job or of all."""
    with site.store.view() as session:
        project = the_project(session, name)
        branch = branch or project.main_branch
        rows = past_on(session, project.id, str(push_to(branch)), most)
        shares = shares_below(session, [row.id for row in rows], folder, job)
    points = [_point(row, *shares[row.id]) for row in reversed(rows) if row.id in shares]
    return CoverageTrend(_said(points, folder, branch), branch, folder, job, points, len(rows) - len(points))


def _point(row: Past, covered: int, valid: int) -> CoveragePoint:
    share = Fraction(covered, valid) if valid else None
    text = percent(share) if share is not None else "nothing"
    shown = float(text.removesuffix(" %")) if share is not None else None
    return CoveragePoint(row.number, row.commit, row.title, row.at, covered, valid, shown, text)


def _said(points: Sequence[CoveragePoint], folder: str, branch: str) -> str:
    where = folder or "The repository"
    known = [p for p in points if p.share is not None]
    if not known:
        return f"No run of {branch} has coverage of {folder or 'the repository'} by file."
    least, most = (f(known, key=lambda p: (p.share or 0.0, p.run)) for f in (min, max))
    if len(known) == 1:
        return f"{where}: {known[0].text} at #{known[0].run}, the only run that says so."
    if least.text == most.text:
        return f"{where}: {most.text} in each of {counted(len(known), 'run')} of {branch}."
    return (
        f"{where}: {known[-1].text} at #{known[-1].run}; least {least.text} at #{least.run}, most {most.text} at "
        f"#{most.run}, in {counted(len(known), 'run')} of {branch}."
    )
