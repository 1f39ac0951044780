"""Who is told what, as the plan on the main branch says: kept as ways beside those of the settings."""

from __future__ import annotations

import json
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any

from sqlalchemy.orm import Session

from myriant.core.plan.model import Notify, Plan
from myriant.flow.sealing import as_sealed, seal
from myriant.flow.site import Site
from myriant.store.tables import Project, Way
from myriant.store.ways import ways_of

BY = "the plan"


def remember_notify(site: Site, session: Session, project: Project, plan: Plan) -> None:
    """Keep the ways of the plan on the main branch, and switch off those that it has no more."""
    wanted: dict[str, Notify] = {}
    for told in plan.notify:
        name = _name(told)
        again = sum(n == name or n.startswith(f"{name} (") for n in wanted)
        wanted[f"{name} ({again + 1})" if again else name] = told
    known = {w.name: w for w in ways_of(session, project.id) if w.by == BY}
    for name, told in wanted.items():
        kind, shown, content = _content(told)
        at = [moment for moment in told.at if moment != "always"]
        way = known.pop(name, None) or Way(project_id=project.id, name=name, planned=True, by=BY, kind=kind)
        way.kind, way.shown, way.always, way.moments = kind, shown, "always" in told.at, at
        way.at, way.on, way.planned = datetime.now(UTC), True, True
        way.sealed = seal(site.key(), project.id, as_sealed(name), json.dumps(content))
        session.add(way)
    for gone in known.values():  # what was told there stays listed, until somebody removes the way
        gone.on = gone.planned = False


def _name(told: Notify) -> str:
    """One that no way of the settings can have."""
    return f"plan: {f'webhook {told.url_secret}' if told.url_secret else 'mail'}"


def _content(told: Notify) -> tuple[str, str, Mapping[str, Any]]:
    """Of a way its kind, what anybody may see of it, and what is sealed."""
    if told.url_secret:
        content = {"url": f"{{secret:{told.url_secret}}}", "method": "POST", "headers": {}, "body": ""}
        return "request", f"the address in {told.url_secret}", content
    people = [(told.committers, "the commits' authors"), (told.owners, "the owners of what it is about")]
    said = ", ".join([*told.to, *(words for wanted, words in people if wanted)])
    return "mail", said, {"to": list(told.to), "authors": told.committers, "owners": told.owners}
