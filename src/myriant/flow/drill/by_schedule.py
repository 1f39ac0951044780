"""Drills by schedule: a gate is tried at a time, and what came of it is kept where people decide."""

from __future__ import annotations

import logging
from datetime import UTC, datetime, timedelta

from myriant.flow.announce.mornings import times_of
from myriant.flow.drill.trial import drill_anew
from myriant.flow.errors import FlowError, NotFound, Refused
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.who import Person
from myriant.store.changes import tell
from myriant.store.projects import projects_to_drill
from myriant.store.queue import OUTWARD, defer
from myriant.store.tables import Project

_log = logging.getLogger(__name__)
SOON = timedelta(minutes=1)  # until it is tried again where another drill goes on
BY = Person(0, "the schedule", "maintainer")


def call_for_drills(site: Site, now: datetime) -> None:
    """Have the gates tried whose time has come; one that was missed, however often, is tried once."""
    with site.store.transaction() as session:
        for project in projects_to_drill(session, now):
            project.drill_at = next(times_of(project.drill_words).after(now))
            defer(session, "drill", queue=OUTWARD, lock=f"drill-{project.id}", project_id=project.id)


def drill_by_schedule(site: Site, project_id: int) -> None:
    """Try a project's gate, and keep what came of it."""
    with site.store.transaction() as session:
        project = session.get(Project, project_id)
        if project is None:
            return
        name = project.name
    try:
        found = drill_anew(site, name, BY)
        told = {"passed": found.passed, "said": found.said}
    except Refused:  # somebody tries it just now: that says nothing of the gate
        with site.store.transaction() as session:
            project = session.get(Project, project_id)
            if project is not None and project.drill_words:  # nobody took the schedule away meanwhile
                project.drill_at = datetime.now(UTC) + SOON
        return
    except FlowError as error:
        told = {"passed": False, "said": f"The gate could not be tried: {error}."}
    except Exception as error:  # kept and said: a gate that cannot be tried is not one that holds
        _log.exception("the drill of %s failed", name)
        told = {"passed": False, "said": f"The gate could not be tried ({type(error).__name__}: {error})."}
    with site.store.transaction() as session:
        try:
            project = the_project(session, name)
        except NotFound:
            return
        project.drilled, project.drilled_at = told, datetime.now(UTC)
        tell(session, "project", name)
