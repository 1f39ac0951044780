"""Filters are kept for everybody of a project, and given up."""

from __future__ import annotations

from myriant.flow.errors import BadInput, NotFound, Refused
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.who import Person
from myriant.store.filters import filter_named, filters_of_project
from myriant.store.tables import KeptFilter

PAGES = ("runs", "failures", "logs", "tests", "artifacts")
MOST = 200  # of a project


def keep_filter(site: Site, project_name: str, page: str, name: str, query: str, who: Person) -> None:
    """Keep what a page is asked for under a name; one that is called so is replaced.

    Raises BadInput for a page without filters or an empty name, Refused beyond the most of a project.
    """
    if page not in PAGES:
        raise BadInput(f"{page[:40]!r} has no filters", f"there are: {', '.join(PAGES)}")
    if not name.strip() or not query.strip():
        raise BadInput("a filter has a name, and something that it looks for", "name it after what it finds")
    with site.store.transaction() as session:
        project = the_project(session, project_name)
        row = filter_named(session, project.id, page, name.strip())
        if row is None and len(filters_of_project(session, project.id)) >= MOST:
            raise Refused(f"a project keeps at most {MOST} filters", "give up one that nobody uses")
        row = row or KeptFilter(project_id=project.id, page=page, name=name.strip())
        row.query, row.by = query.strip(), who.name
        session.add(row)


def drop_filter(site: Site, project_name: str, page: str, name: str) -> None:
    """Keep it no more. Raises NotFound for one that is not there."""
    with site.store.transaction() as session:
        project = the_project(session, project_name)
        row = filter_named(session, project.id, page, name)
        if row is None:
            raise NotFound(f"no filter of {project_name} is called {name[:80]!r}")
        session.delete(row)
