"""Rules of the gate, and selectors of cells."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, cast

from myriant.core.plan.keys import EVENT_KEYS, EVENTS, FRACTIONS, MEASURES, MOST_BEST, SHARES
from myriant.core.plan.model import Rule
from myriant.core.plan.places import Path
from myriant.core.plan.reporting import quoted
from myriant.core.plan.selectors import Condition, Selector
from myriant.core.plan.table import Found, Reader

_NOT_BY_KIND = ("tests.vanished", "tests.removed", "tests.newly-skipped")  # they are compared by job


class RulesReader(Reader):
    """Reads rules and conditions."""

    def check_selector(self, row: Found, key: str, values: Mapping[str, Sequence[str]], *, events: bool) -> None:
        """Note conditions on unknown dimensions and conditions that can never hold."""
        selector: Selector | None = row.get(key)
        if selector is None:
            return
        at = row.at(key)
        several = len(selector.alternatives) > 1 or (*at, 0) in self.places.values
        for i, alternative in enumerate(selector.alternatives):
            where = (*at, i) if several else at
            for c in alternative:
                self.check_condition((*where, c.key), c, values, events=events)
            named = {c.key: c for c in alternative}
            event = named.get("event")
            for word, kind in (("tag", "tag"), ("from", "pull-request")):
                if events and event and word in named and not event.holds({"event": kind}):
                    self.problem(
                        (*where, word),
                        f"this never holds: only the event {kind} has {word}",
                        f'write event = "{kind}", or leave {word} out',
                    )

    def check_condition(self, at: Path, c: Condition, values: Mapping[str, Sequence[str]], *, events: bool) -> None:
        if events and c.key in EVENT_KEYS and c.key not in values:
            if c.key == "event" and not any(c.holds({"event": e}) for e in EVENTS):
                message = f'this never holds: there is no event "{c.tests[0].body[:80]}"'
                self.unknown_value(at, c.tests[0].body, EVENTS, message, known_as="events")
            return
        if c.key not in values:
            near = self.nearest(c.key, [*values, *(EVENT_KEYS if events else ())])
            mend = f"did you mean {near}?" if near else f"dimensions here: {', '.join(values) or 'none'}"
            edits = self.replace_key(at, near) if near else ()
            self.problem(at, f'"{c.key[:80]}" is no dimension of this job', mend, edits=edits)
        elif values[c.key] and not any(c.holds({c.key: v}) for v in values[c.key]):
            near = self.nearest(c.tests[0].body, values[c.key])
            self.problem(
                at,
                f"this never holds: {c.key} is one of {', '.join(values[c.key])[:200]}",
                f'did you mean "{near}"?' if near else "name a value that the dimension has",
                value=True,
                edits=self.replace_value(at, quoted(near)) if near and len(c.tests) == 1 else (),
            )

    def rule(self, row: Found, jobs: set[str]) -> Rule | None:
        measure = row.get("measure")
        if measure is None:
            return None
        if measure not in MEASURES:
            message = f'"{measure[:80]}" is no measure'
            self.unknown_value(row.at("measure"), measure, MEASURES, message, known_as="measures")
            return None
        for i, job in enumerate(row.get("jobs", ())):
            if job not in jobs:
                message = f'there is no job "{job[:80]}"'
                self.unknown_value((*row.at("jobs"), i), job, sorted(jobs), message, known_as="jobs of this plan")
        signs = [s for s in ("at-most", "at-least") if self._has(row, s)]
        if len(signs) != 1:
            what = "both at-most and at-least" if signs else "no limit"
            mend = "write one of at-most = 0 or at-least = 0.80"
            self.problem(row.path, f"this rule has {what}", mend, missing=not signs)
            return None
        sign = signs[0]
        limit = row.get(sign)
        if limit is None or not self.fitting(row, sign, measure):
            return None
        best = int(limit.rpartition(" ")[2]) if isinstance(limit, str) and limit != "baseline" else 1
        by_kind = measure.startswith(("tests.", "results.")) and measure not in _NOT_BY_KIND
        if "kinds" in row and (not by_kind or isinstance(limit, str)):
            said = f"{measure} is not counted by kinds of tests" if not by_kind else "no baseline is kept by kinds"
            self.problem(row.at("kinds"), said, "kinds go with a number of tests or results, such as tests.new = 0")
        if "folder" in row and not measure.startswith("coverage."):
            self.problem(row.at("folder"), f"{measure} has no folder", "folder goes with coverage measures")
        return Rule(
            name=row.get("name") or f"{measure} {sign} {row[sign]}",
            measure=measure,
            sign=cast(Any, sign),
            limit="baseline" if isinstance(limit, str) else limit,
            best_of=best,
            level=row.get("level", "block"),
            jobs=row.get("jobs", ()),
            line=self.places.of_key(row.path).line,
            cells=row.get("cells"),
            folder=row.get("folder"),
            since=row.get("since"),
            after_runs=row.get("after-runs", 0),
            kinds=tuple(row.get("kinds", ())),
        )

    def fitting(self, row: Found, sign: str, measure: str) -> bool:
        """Whether a limit is of the size that its measure has."""
        limit, at = row[sign], row.at(sign)
        if limit == "baseline":
            return True
        if isinstance(limit, str):
            return self.looking_back(row, at, limit, measure)
        shown = (self.places.value_text(at) or str(limit))[:40]
        if measure in FRACTIONS and not 0 <= limit <= 1:
            new = f"{float(limit / 100):g}" if 1 < limit <= 100 else ""
            edits = self.replace_value(at, new) if new else ()
            mend = f"write {new}" if new else "write a fraction from 0 to 1"
            self.problem(at, f"{measure} is a fraction from 0 to 1, {shown} is outside", mend, value=True, edits=edits)
            return False
        if measure == "coverage.change" and -1 <= limit <= 1:
            return True
        if limit < 0:
            mend, edits = "write 0 or more", self.replace_value(at, "0")
            self.problem(at, "a limit below zero can never be exceeded or met", mend, value=True, edits=edits)
            return False
        if measure == "coverage.change":
            self.problem(
                at, f"coverage.change is from -1 to 1, {shown} is outside", "write -0.005 for half a point", value=True
            )
            return False
        if measure not in FRACTIONS and limit.denominator != 1:
            message = f"{measure} counts whole {measure.split('.')[0]}, {shown} is a fraction"
            self.problem(at, message, "write a whole number, or choose tests.share-passed", value=True)
            return False
        return True

    def looking_back(self, row: Found, at: Path, limit: str, measure: str) -> bool:
        """Whether a measure can be compared with the best of several baselines."""
        many = int(limit.rpartition(" ")[2])
        if measure not in SHARES or "folder" in row or "cells" in row or len(row.get("jobs", ())) > 1:
            mend = f'write "baseline"; the best of several is kept of {", ".join(SHARES)}, of one job or of all'
            self.problem(at, "there is no best of several baselines of this", mend, value=True)
        elif many > MOST_BEST:
            self.problem(
                at,
                f"at most {MOST_BEST} baselines are looked at",
                f'write "best of {MOST_BEST}"',
                value=True,
                edits=self.replace_value(at, f'"best of {MOST_BEST}"'),
            )
        else:
            return True
        return False

    def _has(self, row: Found, key: str) -> bool:
        """Whether a key is written, with whatever value."""
        return (*row.path, key) in self.places.keys
