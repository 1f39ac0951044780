"""Drills that somebody asks for: begun at once, tried in the background, kept until the next one."""

from __future__ import annotations

import logging
from dataclasses import replace
from datetime import UTC, datetime

from myriant.core.gate.drilled import Drill
from myriant.flow.drill.trial import drill_anew, ready
from myriant.flow.errors import FlowError, Refused
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.who import Person
from myriant.store.changes import tell
from myriant.store.queue import OUTWARD, defer
from myriant.store.records import DrillAsked
from myriant.store.tables import Project

_log = logging.getLogger(__name__)


def ask_for_drill(site: Site, name: str, who: Person) -> None:
    """Have a project's gate tried.

    Raises NotFound, BadInput without a plan that can be used, Refused while one goes on.
    """
    ready(site, name)
    now = datetime.now(UTC)
    with site.store.transaction() as session:
        project = the_project(session, name)
        session.refresh(project, with_for_update=True)
        if project.drill_asked is not None and project.drill_asked.goes_on(now):
            raise Refused(f"a drill of {name} goes on", "wait until it is over")
        project.drill_asked = DrillAsked(who.name, now)
        defer(session, "drill-asked", queue=OUTWARD, lock=f"drill-{project.id}", project_id=project.id)
        tell(session, "project", name)


def drill_as_asked(site: Site, project_id: int) -> None:
    """Try a project's gate for whoever asked, and keep what came of it. Running twice tries once."""
    with site.store.view() as session:
        project = session.get(Project, project_id)
        asked = project.drill_asked if project is not None else None
        if project is None or asked is None or asked.over is not None:
            return
        name = project.name
    came: Drill | None = None
    refused = ""
    try:
        came = drill_anew(site, name, Person(0, asked.by, "maintainer"))
    except FlowError as error:
        refused = f"The gate could not be tried: {error}."
    except Exception as error:  # kept and said: who asked would wait for ever
        _log.exception("the drill of %s failed", name)
        refused = f"The gate could not be tried ({type(error).__name__}: {error})."
    with site.store.transaction() as session:
        project = session.get(Project, project_id)
        if project is not None:
            project.drill_asked = replace(asked, over=datetime.now(UTC), came=came, refused=refused)
            tell(session, "project", project.name)
