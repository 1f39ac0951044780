"""Supply: what the runners in touch offer, and why none can take a cell."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from typing import Any

from sqlalchemy import Row
from sqlalchemy.orm import Session

from myriant.core.plan.versions import version_key
from myriant.core.written import counted
from myriant.store.runners import offers_of_runners

IN_TOUCH = timedelta(seconds=30)


_NAMED = 4  # versions named in a sentence


@dataclass(frozen=True, slots=True)
class Offer:
    """What one runner in touch offers, and why it is given nothing when it is drained."""

    name: str
    offers: frozenset[str]
    slots: int
    drained: str = ""
    projects: frozenset[int] | None = None  # whose cells it is given; None: all

    def takes(self, wants: Collection[str], project: int) -> bool:
        """Whether it could take a cell with these wishes of a project, by what it offers and is for."""
        return self.offers >= set(wants) and (self.projects is None or project in self.projects)


@dataclass(frozen=True, slots=True)
class Supply:
    """All that could take a cell now."""

    runners: list[Offer]
    runtimes: set[tuple[str, str]]  # families and versions that those in touch have
    away: list[Offer] = field(default_factory=list)  # not in touch
    _said: dict[tuple[frozenset[str], int], str | None] = field(default_factory=dict, repr=False)

    def refusal(self, wants: Collection[str], project: int) -> str | None:
        """Why no runner can take a cell of a project with these wishes, and who could supply what is missing; None
        when one can.
        """
        asked = frozenset(wants), project
        if asked not in self._said:
            self._said[asked] = self._refusal(*asked)
        return self._said[asked]

    def _refusal(self, wanted: frozenset[str], project: int) -> str | None:
        fitting = [r for r in self.runners if r.takes(wanted, project)]
        if any(not r.drained for r in fitting):
            return None
        if fitting:
            names = ", ".join(r.name for r in fitting[:3])
            return f"every runner that could take it is drained ({names}): {fitting[0].drained}"
        away = [r.name for r in self.away if r.takes(wanted, project) and not r.drained]
        if away:
            more = " and others" if len(away) > 3 else ""
            names = f"{', '.join(away[:3])}{more} could take it"
            return f"{names}, but {'is' if len(away) == 1 else 'are'} not in touch; start one again: myriant runner"
        if not self.runners:
            return "no runner is in touch; start one: myriant runner"
        others = [r.name for r in self.runners if wanted <= r.offers]
        if others:
            return (
                f"{', '.join(others[:3])} could take it, but {'is' if len(others) == 1 else 'are'} not for this project"
            )
        missing = sorted(wanted - set().union(*(r.offers for r in self.runners)))
        if not missing:
            return f"no single runner offers {' and '.join(sorted(wanted))}"
        if missing[0].startswith("label "):
            return f"no runner has the label {missing[0].removeprefix('label ')}"
        family = missing[0].split(" ")[0]
        known = sorted({version for f, version in self.runtimes if f == family}, key=version_key)
        older = f" and {counted(len(known) - _NAMED, 'older one')}" if len(known) > _NAMED else ""
        have = f"runners have {family} {', '.join(known[-_NAMED:])}{older}" if known else f"no runner has any {family}"
        mend = f"install it on {self.runners[0].name} or register it there"
        return f"no runner offers {' or '.join(missing)}; {have}; {mend}"


def _offer(row: Row[Any]) -> Offer:
    own = frozenset(row.projects) if row.projects is not None else None
    return Offer(row.name, frozenset(row.offers), row.slots, row.drained, own)


def supply(session: Session) -> Supply:
    since = datetime.now(UTC) - IN_TOUCH
    rows = offers_of_runners(session)
    here, away = [_offer(r) for r in rows if r.seen_at >= since], [_offer(r) for r in rows if r.seen_at < since]
    return Supply(here, {(t["family"], t["version"]) for r in rows if r.seen_at >= since for t in r.runtimes}, away)
