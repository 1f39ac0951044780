"""Shapes of failures that a project adds to the usual ones."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy.orm import Session

from myriant.core.diagnosis.kinds import Kind, KindError, kinds_from, usual_kinds
from myriant.flow.errors import BadInput
from myriant.flow.lines import the_project
from myriant.flow.people import Person
from myriant.flow.site import Site
from myriant.store.tables import KindRule

MOST_TEXT = 100_000


@dataclass(frozen=True, slots=True)
class UsualKind:
    name: str
    part: str
    say: str


@dataclass(frozen=True, slots=True)
class KindsView:
    """A project's rules as TOML, and the shapes that are known without them."""

    text: str
    by: str
    at: datetime | None
    usual: list[UsualKind]


def kinds_of(session: Session, project_id: int) -> tuple[Kind, ...]:
    """A project's own rules; they are looked at before the usual ones."""
    row = session.get(KindRule, project_id)
    try:
        return kinds_from(row.text) if row is not None else ()
    except KindError:
        return ()  # written by a program that allowed more


def kinds_told(site: Site, project_name: str) -> KindsView:
    with site.store.transaction() as session:
        row = session.get(KindRule, the_project(session, project_name).id)
        usual = [UsualKind(k.name, k.part, k.say) for k in usual_kinds()]
        return KindsView(row.text, row.by, row.at, usual) if row is not None else KindsView("", "", None, usual)


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
