"""The background work: which task does what, and the sweep that finds what was left."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Callable, Iterator
from contextlib import contextmanager

import procrastinate

from myriant.flow.actions.repeating import repeat_controls
from myriant.flow.actions.searches import go_on
from myriant.flow.admin.projects import project_names
from myriant.flow.announce.notes import announce_run
from myriant.flow.announce.sending import deliver
from myriant.flow.announce.ways import tell_ways
from myriant.flow.conclude.judging import conclude_run
from myriant.flow.drill.asked import drill_as_asked
from myriant.flow.drill.by_schedule import drill_by_schedule
from myriant.flow.errors import FlowError
from myriant.flow.ingest.attempts import ingest_attempt
from myriant.flow.intake.refs import look
from myriant.flow.planning.reading import plan_run
from myriant.flow.site import Site
from myriant.flow.upkeep.retention import forget_loose, keep_todays_sizes
from myriant.flow.upkeep.timekeeping import UPKEEP, Timekeeper, keep_time
from myriant.settings import settings
from myriant.store.attempts import run_id_of_attempt
from myriant.store.changes import tell
from myriant.store.queue import OUTWARD, forget_finished_tasks, take_up_orphans
from myriant.store.tables import Project, Run

_log = logging.getLogger(__name__)
_SILENT_SECONDS = 15.0
_SWEEPS_TO_FORGET = 1000
TEND_SECONDS = 5.0  # between two looks for tasks of lost workers


def task_app(site: Site) -> procrastinate.App:
    """The worker's tasks, bound to one site. A task can run twice without harm."""
    url = site.store.url
    app = procrastinate.App(connector=procrastinate.PsycopgConnector(conninfo=url))
    persistent = procrastinate.RetryStrategy(max_attempts=8, exponential_wait=2)

    @app.task(name="plan", retry=persistent)
    def plan(run_id: int) -> None:
        with said_on_the_run(site, run_id, "reading the plan"):
            plan_run(site, run_id)

    @app.task(name="ingest", retry=persistent)
    def ingest(attempt_id: int) -> None:
        with said_on_the_run(site, lambda: run_of_attempt(site, attempt_id), "reading the reports"):
            ingest_attempt(site, attempt_id)

    @app.task(name="conclude", retry=persistent)
    def conclude(run_id: int) -> None:
        with said_on_the_run(site, run_id, "judging the results"):
            conclude_run(site, run_id)

    @app.task(name="announce", retry=persistent)
    def announce(run_id: int) -> None:
        announce_run(site, run_id)

    @app.task(name="tell", retry=persistent)
    def tell_of(run_id: int) -> None:
        tell_ways(site, run_id)

    @app.task(name="deliver", queue=OUTWARD, retry=persistent)
    def deliver_on(way_id: int) -> None:
        deliver(site, way_id)

    @app.task(name="repeat", retry=persistent)
    def repeat(run_id: int) -> None:
        repeat_controls(site, run_id)

    @app.task(name="drill-asked", queue=OUTWARD)
    def drill_asked(project_id: int) -> None:
        drill_as_asked(site, project_id)

    @app.task(name="drill", queue=OUTWARD)
    def drill_of(project_id: int) -> None:
        drill_by_schedule(site, project_id)

    @app.task(name="search", retry=persistent)
    def search(search_id: int) -> None:
        go_on(site, search_id)

    return app


@contextmanager
def said_on_the_run(site: Site, which: int | Callable[[], int | None], doing: str) -> Iterator[None]:
    """Let no task fail in silence: the run says what does not work, and stays undecided until it does."""
    try:
        yield
    except Exception as error:
        run_id = which if isinstance(which, int) else which()
        _log.exception("%s of run %s failed", doing, run_id)
        with site.store.transaction() as session:
            run = session.get(Run, run_id)
            if run is not None and run.ended_at is None:
                run.reason = f"{doing} failed and is tried again ({type(error).__name__}: {error})"[:2000]
                tell(session, "run", session.get_one(Project, run.project_id).name, run.number)
        raise


def run_of_attempt(site: Site, attempt_id: int) -> int | None:
    with site.store.transaction() as session:
        return run_id_of_attempt(session, attempt_id)


def sweep(site: Site, keeper: Timekeeper | None = None) -> list[str]:
    """Do what time brings: what a timekeeper has due, or all of it; the names of the tasks that failed."""
    return keep_time(site, tasks=keeper.due() if keeper is not None else UPKEEP)


async def tend_tasks(site: Site, app: procrastinate.App, sweeps: int) -> None:
    """Take up again what a lost worker had begun, and now and then forget what is over."""
    orphans = await take_up_orphans(app, _SILENT_SECONDS)
    if orphans:
        _log.warning("%d tasks of a lost worker are taken up again", orphans)
    if sweeps % _SWEEPS_TO_FORGET == 0:
        await forget_finished_tasks(app)
        await asyncio.to_thread(forget_loose, site)
        await asyncio.to_thread(keep_todays_sizes, site)


def due_looks(site: Site) -> list[str]:
    """Projects whose repository is to be looked at now."""
    return project_names(site, due_after=settings().poll_seconds)


def look_at(site: Site, project: str) -> None:
    """Look at one repository; what goes wrong with it is said and disturbs no other."""
    try:
        look(site, project)
    except FlowError:
        return  # it was forgotten meanwhile
    except Exception:
        _log.exception("looking at %s failed", project)
