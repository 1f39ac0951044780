"""The drill that somebody asked for last."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime

from myriant.core.gate.drilled import Drill
from myriant.flow.naming import the_project
from myriant.flow.site import Site


@dataclass(frozen=True, slots=True)
class DrillStanding:
    """How far it is: `at` and `by` tell who asked when, None and empty where nobody has."""

    goes_on: bool
    at: datetime | None
    by: str
    over: datetime | None
    came: Drill | None
    refused: str  # why it could not be tried


def drill_standing(site: Site, name: str) -> DrillStanding:
    """Raises NotFound."""
    with site.store.view() as session:
        asked = the_project(session, name).drill_asked
        if asked is None:
            return DrillStanding(False, None, "", None, None, "")
        goes_on = asked.goes_on(datetime.now(UTC))
        lost = "" if goes_on or asked.over is not None else "It was broken off; try it again."
        return DrillStanding(goes_on, asked.at, asked.by, asked.over, asked.came, asked.refused or lost)
