"""Waivers: which rules need not hold, where, until when, and who said so."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime

from myriant.flow.naming import the_project
from myriant.flow.site import Site
from myriant.store.tables import Waiver
from myriant.store.waivers import waivers_of


@dataclass(frozen=True, slots=True)
class WaiverView:
    id: int
    rule: str
    context: str  # empty: everywhere
    run: int
    shown: str  # what was seen there, and the limit
    reason: str
    by: str
    at: datetime
    until: datetime
    over: bool
    ended_why: str


def waivers_told(site: Site, name: str) -> list[WaiverView]:
    """The waivers of a project, newest first; those that are over stay listed."""
    with site.store.view() as session:
        return [waiver_view(row) for row in waivers_of(session, the_project(session, name).id)]


def waiver_view(row: Waiver) -> WaiverView:
    over = row.ended_at is not None or row.until <= datetime.now(UTC)
    return WaiverView(
        row.id, row.rule, row.context, row.run, row.shown, row.reason, row.by, row.at, row.until, over, row.ended_why
    )
