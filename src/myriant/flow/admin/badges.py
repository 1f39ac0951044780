"""Where a project's badges are."""

from __future__ import annotations

import secrets

from myriant.flow.naming import the_project
from myriant.flow.site import Site


def badge_key(site: Site, name: str) -> str:
    """What stands in the addresses of a project's badges; made when it is first asked for."""
    with site.store.transaction() as session:
        project = the_project(session, name)
        project.badge_key = project.badge_key or secrets.token_urlsafe(16)
        return project.badge_key
