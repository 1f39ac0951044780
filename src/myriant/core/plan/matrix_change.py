"""What a value of a dimension is for, as a plan has it: retired, advisory, binding, nightly, new; and edits of that."""

from __future__ import annotations

import copy
import tomllib
from collections.abc import Callable, Mapping
from typing import Any

from myriant.core.plan.change import insert_piece, set_value
from myriant.core.plan.model import Job
from myriant.core.plan.selectors import SelectorError, condition
from myriant.core.plan.versions import version_key
from myriant.core.states import EventKind

CHANGES = ("retire", "nights", "advisory", "promote", "add")
Document = dict[str, Any]


class CannotChange(ValueError):
    """The text is not changed by itself; says why, and what to change by hand."""


def tested_values(job: Job, dimension: str) -> list[str]:
    """The values that a job's cells have in a dimension, varied or added."""
    added = [cell[dimension] for cell in job.add if dimension in cell]
    return list(dict.fromkeys([*job.vary.get(dimension, ()), *added]))


def standing_of(job: Job | None, dimension: str, value: str, branch: str) -> str:
    """What a value is for in a job as pushes to a branch make it: binding, advisory, nights (only), gone."""
    if job is None or value not in tested_values(job, dimension):
        return "gone"
    pair = {dimension: value}
    if job.when is not None and dimension in job.when.keys():  # noqa: SIM118  # a method of selectors
        pushed = {**pair, "branch": branch, "event": str(EventKind.PUSH)}
        if not job.when.holds(pushed) and job.when.holds({**pushed, "event": str(EventKind.SCHEDULE)}):
            return "nights"
    return "advisory" if job.advisory is not None and job.advisory.holds(pair) else "binding"


def changed_matrix(text: str, job: str, dimension: str, value: str, change: str) -> str:
    """The plan's text with a value of a job's dimension retired, run at night only, advisory, binding again, or added
    as advisory. Nothing else of it is touched: what is written is read again and compared. Raises CannotChange.
    """
    try:
        before = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise CannotChange(f"the plan cannot be read: {error}") from error
    own = before.get("jobs", {}).get(job)
    if not isinstance(own, dict):
        raise CannotChange(f"the plan has no job {job}")
    wanted = copy.deepcopy(before)
    _HOW[change](wanted, wanted["jobs"][job], dimension, value)
    done = text
    for key in ("vary", "advisory", "when"):
        then, now = own.get(key), wanted["jobs"][job].get(key)
        if key == "vary" and then != now:
            done = set_value(done, ("jobs", job, key, dimension), now[dimension])
        elif then != now:
            done = set_value(done, ("jobs", job, key), now)
    if before.get("events", {}).get("schedule") != wanted.get("events", {}).get("schedule"):
        done, _ = insert_piece(done, "schedule", 1)
    try:
        proved = tomllib.loads(done) == wanted
    except tomllib.TOMLDecodeError:
        proved = False
    if not proved:
        raise CannotChange(f"job {job} is written in a way that can only be changed by hand")
    return done


def _values(own: Mapping[str, Any], dimension: str) -> list[Any]:
    vary = own.get("vary")
    values = vary.get(dimension) if isinstance(vary, dict) else None
    if not isinstance(values, list):
        raise CannotChange(f"the values of {dimension} are not listed in this job's vary: change them where they are")
    return values


def _listed(table: Any) -> list[Document]:
    return [] if table is None else [table] if isinstance(table, dict) else list(table)


def _retire(_: Document, own: Document, dimension: str, value: str) -> None:
    values = _values(own, dimension)
    left = [v for v in values if str(v) != value]
    if len(left) == len(values):
        raise CannotChange(f"{dimension} {value} is not listed in this job's vary: take it out where it is added")
    if not left:
        raise CannotChange(f"{value} is the only value of {dimension}: without it the job has no cell")
    own["vary"][dimension] = left
    _not_advisory(own, dimension, value)


def _not_advisory(own: Document, dimension: str, value: str) -> bool:
    items = _listed(own.get("advisory"))
    left = [item for item in items if item != {dimension: value}]
    if left:
        own["advisory"] = left if isinstance(own["advisory"], list) else left[0]
    else:
        own.pop("advisory", None)
    return len(left) < len(items)


def _advisory(_: Document, own: Document, dimension: str, value: str) -> None:
    if str(value) not in map(str, _values(own, dimension)):
        raise CannotChange(f"{dimension} {value} is not listed in this job's vary")
    items = _listed(own.get("advisory"))
    if {dimension: value} in items:
        raise CannotChange(f"{dimension} {value} is advisory already")
    own["advisory"] = [*items, {dimension: value}]


def _promote(_: Document, own: Document, dimension: str, value: str) -> None:
    if not _not_advisory(own, dimension, value):
        raise CannotChange(f"what makes {dimension} {value} advisory says more than that: change it by hand")
    left = own.get("advisory")
    if any(_holds(item, {dimension: value}) for item in _listed(left)):
        raise CannotChange(f"another condition keeps {dimension} {value} advisory: change it by hand")


def _holds(table: Mapping[str, Any], values: Mapping[str, str]) -> bool:
    try:
        return all(condition(str(k), v if isinstance(v, list) else str(v)).holds(values) for k, v in table.items())
    except SelectorError:
        return False


def _nights(document: Document, own: Document, dimension: str, value: str) -> None:
    _values(own, dimension)
    alternatives = _listed(own.get("when")) or [{}]
    if any(dimension in a for a in alternatives):
        raise CannotChange(f"the job's when speaks of {dimension} already: change it by hand")
    own["when"] = [{**a, dimension: f"!{value}"} for a in alternatives]
    own["when"] += [{**a, dimension: value, "event": "schedule"} for a in alternatives if "event" not in a]
    if not document.get("events", {}).get("schedule"):
        night = {"name": "nightly", "every": "day", "at": "02:20", "zone": "UTC"}
        document.setdefault("events", {})["schedule"] = [night]


def _add(_: Document, own: Document, dimension: str, value: str) -> None:
    values = _values(own, dimension)
    if value in map(str, values):
        raise CannotChange(f"{dimension} {value} is tested already")
    keys = [version_key(str(v)) for v in values]
    more = [*values, value]
    own["vary"][dimension] = sorted(more, key=lambda v: version_key(str(v))) if keys == sorted(keys) else more
    _advisory(_, own, dimension, value)


_HOW: Mapping[str, Callable[[Document, Document, str, str], None]] = {
    "retire": _retire,
    "nights": _nights,
    "advisory": _advisory,
    "promote": _promote,
    "add": _add,
}
