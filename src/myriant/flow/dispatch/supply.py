"""Supply: what the runners in touch offer, and why none can take a cell."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

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


@dataclass(frozen=True, slots=True)
class Supply:
    """All that could take a cell now."""

    runners: list[Offer]
    runtimes: set[tuple[str, str]]  # families and versions that those in touch have
    away: list[Offer] = field(default_factory=list)  # not in touch
    _said: dict[frozenset[str], str | None] = field(default_factory=dict, repr=False)

    def refusal(self, wants: Collection[str]) -> str | None:
        """Why no runner can take a cell with these wishes, and who could supply what is missing; None when one can."""
        wanted = frozenset(wants)
        if wanted not in self._said:
            self._said[wanted] = self._refusal(wanted)
        return self._said[wanted]

    def _refusal(self, wanted: frozenset[str]) -> str | None:
        fitting = [r for r in self.runners if wanted <= r.offers]
        if any(not r.drained for r in fitting):
            return None
        if fitting:
            names = ", ".join(r.name for r in fitting[:3])
            return f"every runner that could take it is drained ({names}): {fitting[0].drained}"
        away = [r.name for r in self.away if wanted <= r.offers and not r.drained]
        if away:
            more = " and others" if len(away) > 3 else ""
            names = f"{', '.join(away[:3])}{more} could take it"
            return f"{names}, but {'is' if len(away) == 1 else 'are'} not in touch; start one again: myriant runner"
        if not self.runners:
            return "no runner is in touch; start one: myriant runner"
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


def supply(session: Session) -> Supply:
    since = datetime.now(UTC) - IN_TOUCH
    rows = offers_of_runners(session)
    here = [Offer(r.name, frozenset(r.offers), r.slots, r.drained) for r in rows if r.seen_at >= since]
    away = [Offer(r.name, frozenset(r.offers), r.slots, r.drained) for r in rows if r.seen_at < since]
    return Supply(here, {(t["family"], t["version"]) for r in rows if r.seen_at >= since for t in r.runtimes}, away)
