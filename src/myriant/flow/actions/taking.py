"""Taking: a person puts a name on a cause of failures, until it is fixed."""

from __future__ import annotations

from datetime import UTC, datetime

from sqlalchemy.orm import Session

from myriant.flow.errors import BadInput, NotFound, Refused
from myriant.flow.naming import the_project, the_run
from myriant.flow.site import Site
from myriant.flow.who import Person
from myriant.store.changes import tell
from myriant.store.history import sights_of
from myriant.store.tables import Taking
from myriant.store.takings import open_takings

MOST_NOTE = 2000


def take(site: Site, name: str, number: int, finding: str, title: str, note: str, who: Person) -> None:
    """Put a name and a note on a finding of a run; who has it already changes the note. Raises NotFound, Refused."""
    note = note.strip()
    if len(note) > MOST_NOTE:
        raise BadInput(f"the note is longer than {MOST_NOTE} characters", "write it where the team keeps such notes")
    with site.store.transaction() as session:
        project = the_project(session, name)
        run = the_run(session, project, number)
        session.refresh(project, with_for_update=True)
        if not any(s.number == number for s in sights_of(session, project.id, [finding]).get(finding, [])):
            raise NotFound(f"#{number} has no finding {finding!r}", "take it from the run that shows it")
        held = _of(session, project.id, finding)
        if held is None:
            session.add(
                Taking(
                    project_id=project.id,
                    signature=finding,
                    title=title.strip()[:300],
                    context=run.context,
                    run=number,
                    by=who.name,
                    note=note,
                )
            )
        elif held.by == who.name:
            held.note = note
        else:
            raise Refused(f"{held.by} has taken it", "ask them, or give it back for them first")
        tell(session, "run", name, number)


def give_back(site: Site, name: str, finding: str, who: Person) -> None:
    """Take the name off a finding."""
    with site.store.transaction() as session:
        project = the_project(session, name)
        held = _of(session, project.id, finding)
        if held is None:
            raise NotFound("nobody has taken this finding")
        held.ended_at, held.ended_why = datetime.now(UTC), f"given back by {who.name}"
        tell(session, "run", name, held.run)


def _of(session: Session, project_id: int, finding: str) -> Taking | None:
    return next((t for t in open_takings(session, project_id) if t.signature == finding), None)
