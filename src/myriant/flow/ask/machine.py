"""The machine of an attempt beside another's."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select

from myriant.flow.ask.record import record
from myriant.flow.errors import NotFound
from myriant.flow.site import Site
from myriant.store.tables import Attempt, AttemptRecord, Cell, Project, Run


@dataclass(frozen=True, slots=True)
class Differing:
    """A part of the machine that differs; empty where one side has none."""

    section: str
    name: str
    here: str
    there: str


@dataclass(frozen=True, slots=True)
class MachineDifference:
    attempt: int
    other: int
    said: str  # which attempt the other is
    differing: list[Differing]
    same: int


def machine_difference(site: Site, attempt_id: int, other: int | None) -> MachineDifference | None:
    """What differs between two attempts' machines; by default the other is the cell's newest passing one before.

    None when there is no such one, or one of the two has told nothing of its machine. Raises NotFound.
    """
    with site.store.transaction() as session:
        attempt = session.get(Attempt, attempt_id)
        if attempt is None:
            raise NotFound(f"there is no attempt {attempt_id}")
        cell = session.get_one(Cell, attempt.cell_id)
        run = session.get_one(Run, cell.run_id)
        query = (
            select(Attempt.id, Run.number, Cell.job, Cell.key, Attempt.number, Attempt.runner, Project.name)
            .join(Cell, Cell.id == Attempt.cell_id)
            .join(Run, Run.id == Cell.run_id)
            .join(Project, Project.id == Run.project_id)
        )
        if other is not None:
            query = query.where(Attempt.id == other)
        else:
            query = query.where(
                Run.project_id == run.project_id, Cell.job == cell.job, Cell.key == cell.key,
                Attempt.state == "passed", Attempt.id < attempt_id, Attempt.id.in_(
                    select(AttemptRecord.attempt_id).where(AttemptRecord.kind == "machine")
                ),
            )  # fmt: skip
        found = session.execute(query.order_by(Attempt.id.desc()).limit(1)).first()
    if found is None:
        if other is not None:
            raise NotFound(f"there is no attempt {other}", "give the number of one that the server knows")
        return None
    here, there = record(site, attempt_id).machine, record(site, found[0]).machine
    if not here or not there:
        return None
    differing, same = differences(here, there)
    said = f"{found[6]} #{found[1]}, {found[2]} {found[3]}, attempt {found[4]} on {found[5]}"
    return MachineDifference(attempt_id, found[0], said, differing, same)


def differences(here: dict[str, dict[str, str]], there: dict[str, dict[str, str]]) -> tuple[list[Differing], int]:
    """What differs between two machine records, and how many values are the same."""
    differing, same = [], 0
    for section in dict.fromkeys([*here, *there]):
        mine, other = here.get(section, {}), there.get(section, {})
        for name in dict.fromkeys([*mine, *other]):
            if mine.get(name) == other.get(name):
                same += 1
            else:
                differing.append(Differing(section, name, mine.get(name, ""), other.get(name, "")))
    return differing, same
