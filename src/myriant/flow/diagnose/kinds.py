"""Shapes of failures that a project adds to the usual ones."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy.orm import Session

from myriant.core.diagnosis.kinds import Kind, KindError, kinds_from, usual_kinds
from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.store.tables import KindRule


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
    with site.store.view() as session:
        row = session.get(KindRule, the_project(session, project_name).id)
        usual = [UsualKind(k.name, k.part, k.say) for k in usual_kinds()]
        return KindsView(row.text, row.by, row.at, usual) if row is not None else KindsView("", "", None, usual)
