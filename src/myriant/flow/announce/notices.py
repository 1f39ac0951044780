"""What needs a person beside a verdict, told on the ways of news, each thing once.

An approval that is wanted, a cell that no runner can take, a budget that is nearly spent, housekeeping that did not end
well, a gate that did not hold when it was tried.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from sqlalchemy.orm import Session

from myriant.core.telling.news import News
from myriant.flow.announce.ways import is_for, values_of
from myriant.flow.site import Site
from myriant.flow.views.cost import budgets_nearly_spent
from myriant.flow.views.desk.page import untidy_now
from myriant.flow.views.runners.queue import stuck_cells
from myriant.store.projects import all_projects
from myriant.store.queue import OUTWARD, defer
from myriant.store.runs import approvals_waiting, newest_runs_on_main, run_numbered
from myriant.store.tables import Project, Run
from myriant.store.ways import ATTENTION, add_delivery, is_told, ways_of

PATIENCE = timedelta(minutes=5)  # that a cell may lack a runner before anybody is told
SELDOM = timedelta(minutes=1)  # between two looks at what takes longer to find out


@dataclass(frozen=True, slots=True)
class Notice:
    """Something that a person should see to; `key` makes it one thing that is told once."""

    project: str
    run: int | None
    key: str
    subject: str
    text: str
    page: str = ""  # of the project; empty: the run's


def tell_notices(site: Site, now: datetime, *, all_of_it: bool) -> int:
    """Note what is to be told; how many things are new. Without `all_of_it` only what is urgent is looked for."""
    told = 0
    with site.store.transaction() as session:
        projects = {p.name: p for p in all_projects(session)}
        for notice in _found(session, projects, now, all_of_it=all_of_it):
            told += _tell(site, session, projects[notice.project], notice)
    return told


def _found(session: Session, projects: dict[str, Project], now: datetime, *, all_of_it: bool) -> Iterator[Notice]:
    for project, run, job, until in approvals_waiting(session):
        yield Notice(
            project,
            run,
            f"approval\n{run}\n{job}\n{until.isoformat()}",
            f"an approval of {job} is wanted (#{run})",
            f"{job} of #{run} waits for an approval until {until:%Y-%m-%d %H:%M} UTC.",
        )
    if not all_of_it:
        return
    for cell in stuck_cells(session):
        row = run_numbered(session, projects[cell.project].id, cell.run)
        if row is not None and now - row.created_at > PATIENCE:
            where = f"{cell.job} {cell.key}".strip()
            yield Notice(
                cell.project,
                cell.run,
                f"stuck\n{cell.run}\n{where}",
                f"no runner can take {where} (#{cell.run})",
                f"{where} of #{cell.run} waits for a runner: {cell.reason}.",
            )
    for u in untidy_now(session, list(projects.values())):
        yield Notice(
            u.project,
            u.run,
            f"untidy\n{u.run}\n{u.job}",
            f"housekeeping {u.job} did not end well (#{u.run})",
            f"Housekeeping {u.job} did not end well in #{u.run}: {u.reason or 'see its log'}.",
        )
    for b in budgets_nearly_spent(session, list(projects.values()), now):
        key, of = (
            (f"budget\n{now:%Y-%m}\n{b.event}", f" of {b.event} runs") if b.event else (f"budget\n{now:%Y-%m}", "")
        )
        yield Notice(b.project, None, key, f"the budget{of} is nearly spent", b.said, "cost")
    for name, p in projects.items():
        if p.drilled.get("passed") is False and p.drilled_at is not None:
            yield Notice(
                name,
                None,
                f"gate\n{p.drilled_at.isoformat()}",
                "the gate did not hold when it was tried",
                str(p.drilled["said"]),
                "settings",
            )


def _tell(site: Site, session: Session, project: Project, notice: Notice) -> int:
    ways = [
        w
        for w in ways_of(session, project.id)
        if w.on and not w.morning and not w.always and (not w.moments or News.ATTENTION in w.moments)
    ]
    told, subject = 0, f"{ATTENTION}\n{notice.key}"
    for way in ways:
        if is_told(session, way.id, subject) or (run := _run_of(session, project, notice)) is None:
            continue
        if notice.run is not None and not is_for(way, run):
            continue
        values = values_of(site, session, project, run, News.ATTENTION)
        values = replace(
            values,
            subject=notice.subject,
            sentence=notice.text,
            text=notice.text,
            context=ATTENTION,
            failing=(),
            state=ATTENTION,
        )
        if notice.page:
            values = replace(values, address=f"{site.address}/p/{project.name}/{notice.page}")
        made = add_delivery(
            session,
            way_id=way.id,
            project_id=project.id,
            run=run.number,
            said=notice.subject,
            told=values,
            context=ATTENTION,
            subject=subject,
        )
        if made is not None:
            told += 1
            defer(session, "deliver", queue=OUTWARD, lock=f"way-{way.id}", way_id=way.id)
    return told


def _run_of(session: Session, project: Project, notice: Notice) -> Run | None:
    """The run that a notice is about, or the newest of the main branch where it is about none."""
    if notice.run is not None:
        return run_numbered(session, project.id, notice.run)
    return next(iter(newest_runs_on_main(session, 1).get(project.id, ())), None)
