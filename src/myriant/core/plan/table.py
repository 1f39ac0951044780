"""Tables of a plan, read by their descriptions: what fits becomes typed values, what does not a problem."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from myriant.core.plan.keys import KEYS, TABLES, Key
from myriant.core.plan.places import Path
from myriant.core.plan.problems import Edit
from myriant.core.plan.values import Values


class Found(dict[str, Any]):
    """The typed values of one table, and the paths where they stand (an inherited one stands elsewhere)."""

    def __init__(self, path: Path) -> None:
        super().__init__()
        self.path = path
        self.origins: dict[str, Path] = {}

    def at(self, key: str) -> Path:
        return self.origins.get(key, (*self.path, key))


class Reader(Values):
    """Reads tables of one plan; problems are gathered, places looked up only when one is asked for."""

    # --- repairs --------------------------------------------------------------------------------

    # --- tables ---------------------------------------------------------------------------------

    def table(self, kind: str, path: Path, data: Mapping[str, Any]) -> Found:
        """Read one table of a kind, with every problem of its keys and values."""
        keys = TABLES[kind]
        found = Found(path)
        for key, raw in data.items():
            if key not in keys:
                self._unknown_key(kind, path, key, raw)
                continue
            value = self.value(keys[key], (*path, key), raw)
            if value is not None:
                found[key] = value
        for key, spec in keys.items():
            if spec.needed and key not in data and kind != "collect":
                mend = f"write {key} = {spec.example}" if spec.example else f"write {key}"
                self._missing(kind, path, key, mend)
        return found

    def _missing(self, kind: str, path: Path, key: str, mend: str) -> None:
        if kind == "plan" and key == "version":
            edit = (Edit(1, 1, 1, 1, "version = 1\n"),)
            self.problem((), "the plan does not say its version", "write version = 1 on the first line", edits=edit)
        elif kind == "plan":
            self.problem(("jobs",), "the plan has no job", "write [jobs.unit] with [[jobs.unit.steps]]", missing=True)
        elif kind == "job":
            self.problem(path, f"job {path[1]} has no step", f"write [[jobs.{path[1]}.steps]]", missing=True)
        else:
            self.problem(path, f"{_where(kind, path)} has no {key}", mend, missing=True)

    def _unknown_key(self, kind: str, path: Path, key: str, raw: Any) -> None:
        at = (*path, key)
        message = f'unknown key "{key[:80]}" in {_where(kind, path)}'
        in_job = len(path) >= 3 and path[0] == "jobs"
        if in_job and key in KEYS["job"] and kind != "job":
            under = f"step {int(path[3]) + 1}" if path[2] == "steps" else str(path[2])
            message = f"{key} stands under {under} but belongs to the job"
            above = f"the first [[jobs.{path[1]}.steps]]" if path[2] == "steps" else f"[jobs.{path[1]}.{path[2]}]"
            self.problem(at, message, f"move it above {above}", edits=self.moved(at, ("jobs", path[1])))
        elif in_job and kind not in ("step", "job") and key in KEYS["step"] and len(path) > 4:
            self.problem(at, f"{key} stands under {kind} but belongs to the step", "move it out of the braces")
        elif kind == "job" and key in KEYS["step"]:
            self.problem(at, f"{key} belongs to a step", f"move it under [[jobs.{path[1]}.steps]]")
        elif kind == "plan" and key in KEYS["defaults"]:
            self.problem(at, f"{key} belongs to a job", "move it under [jobs.…], or under [defaults] for all jobs")
        elif kind == "plan" and key in KEYS["events"]:
            edits = self.replace_key(at, f"events.{key}") if at in self.places.pairs else ()
            self.problem(at, f"{key} is an event", f"write it under [events]: events.{key}", edits=edits)
        else:
            known = KEYS[kind]
            near = self.nearest(key, known - {k for k in known if k == key})
            mend = f"did you mean {near}?" if near else f"known here: {', '.join(sorted(known))}"
            self.problem(at, message, mend, edits=self.replace_key(at, near) if near else ())

    # --- values ---------------------------------------------------------------------------------

    def value(self, spec: Key, path: Path, raw: Any) -> Any:
        """The typed value of a key; None when it has none, with the problem noted."""
        read: Callable[[Key, Path, Any], Any] = getattr(self, f"_{spec.base.replace('-', '_')}")
        return read(spec, path, raw)

    def _table(self, spec: Key, path: Path, raw: Any) -> Found | None:
        return self.table(spec.of, path, raw) if self._is(path, raw, dict) else None

    def _tables(self, spec: Key, path: Path, raw: Any) -> list[Found] | None:
        if isinstance(raw, dict):
            return [self.table(spec.of, path, raw)]
        if not isinstance(raw, list):
            self._is(path, raw, list)
            return None
        found = []
        for i, row in enumerate(raw):
            if isinstance(row, dict):
                found.append(self.table(spec.of, (*path, i), row))
            else:
                message = f"each of {path[-1]} must be a table"
                self.problem((*path, i), message, "write { … } or [[…]]", value=True)
        return found

    def _named(self, spec: Key, path: Path, raw: Any) -> dict[str, Found] | None:
        if not self._is(path, raw, dict):
            return None
        found = {}
        for key, row in raw.items():
            at = (*path, key)
            if self.name(at, key, _NAMED.get(spec.of, "a name")) and self._is(at, row, dict):
                found[key] = self.table(spec.of, at, row)
        return found

    def _cells(self, spec: Key, path: Path, raw: Any) -> tuple[dict[str, str], ...] | None:
        found = []
        for at, row in self._rows(path, raw):
            found.append({key: value for key, value in row.items() if self._is((*at, key), value, str)})
        return tuple(found)

    def _after(self, spec: Key, path: Path, raw: Any) -> tuple[tuple[Path, str, bool], ...] | None:
        if not self._is(path, raw, list):
            return None
        found: list[tuple[Path, str, bool]] = []
        for i, one in enumerate(raw):
            at = (*path, i)
            if isinstance(one, dict):
                row = self.table("after", at, one)
                if "job" in row:
                    found.append(((*at, "job"), row["job"], row.get("even-if") == "failed"))
            elif self._is(at, one, str):
                found.append((at, one, False))
        return tuple(found)


_NAMED = {"job": "a job's id", "companion": "a companion's name", "shared": "a shared beginning's name"}


def _where(kind: str, path: Path) -> str:
    match kind:
        case "job":
            return f"job {path[1]}"
        case "step" if len(path) > 3 and path[0] == "jobs":
            return f"step {int(path[3]) + 1} of job {path[1]}"
        case "plan":
            return "the plan"
        case "rule" if len(path) > 2:
            return f"rule {int(path[2]) + 1}"
        case _:
            return kind
