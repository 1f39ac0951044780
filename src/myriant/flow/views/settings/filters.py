"""Filters that a project's people keep."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.store.filters import filters_of_project


@dataclass(frozen=True, slots=True)
class FilterView:
    """What somebody looks for again and again; `query` is what stands in the page's address."""

    page: str
    name: str
    query: str
    by: str
    at: datetime


def filters_of(site: Site, project_name: str) -> list[FilterView]:
    with site.store.view() as session:
        project = the_project(session, project_name)
        rows = filters_of_project(session, project.id)
        return [FilterView(r.page, r.name, r.query, r.by, r.at) for r in rows]
