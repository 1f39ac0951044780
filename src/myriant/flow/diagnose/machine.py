"""The machine of an attempt beside another's."""

from __future__ import annotations

from dataclasses import dataclass

from myriant.flow.diagnose.record import record
from myriant.flow.errors import NotFound
from myriant.flow.site import Site
from myriant.store.attempts import attempt_told, passing_before
from myriant.store.tables import Attempt, Cell, Run


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
    with site.store.view() as session:
        attempt = session.get(Attempt, attempt_id)
        if attempt is None:
            raise NotFound(f"there is no attempt {attempt_id}")
        cell = session.get_one(Cell, attempt.cell_id)
        run = session.get_one(Run, cell.run_id)
        found = attempt_told(session, other) if other is not None else passing_before(session, run, cell, attempt_id)
    if found is None:
        if other is not None:
            raise NotFound(f"there is no attempt {other}", "give the number of one that the server knows")
        return None
    here, there = record(site, attempt_id).machine, record(site, found.id).machine
    if not here or not there:
        return None
    differing, same = differences(here, there)
    said = f"{found.project} #{found.run}, {found.job} {found.key}, attempt {found.number} on {found.runner}"
    return MachineDifference(attempt_id, found.id, said, differing, same)


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
