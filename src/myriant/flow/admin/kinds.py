"""A project's own kinds of failure are kept."""

from __future__ import annotations

from myriant.core.diagnosis.kinds import KindError, kinds_from
from myriant.flow.diagnose.kinds import KindsView, kinds_told
from myriant.flow.errors import BadInput
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.flow.who import Person
from myriant.store.tables import KindRule

MOST_TEXT = 100_000


def set_kinds(site: Site, project_name: str, text: str, who: Person) -> KindsView:
    """Keep a project's own rules. Raises BadInput for what is no rule."""
    if len(text) > MOST_TEXT:
        raise BadInput(f"the rules are longer than {MOST_TEXT:,} characters", "keep those that are used")
    try:
        kinds_from(text)
    except KindError as error:
        raise BadInput(str(error), "docs/diagnosis.md shows one, and what each key means") from error
    with site.store.transaction() as session:
        project = the_project(session, project_name)
        row = session.get(KindRule, project.id) or KindRule(project_id=project.id)
        row.text, row.by = text, who.name
        session.add(row)
    return kinds_told(site, project_name)
