"""Values of a plan by their kinds: texts, numbers, durations, globs, versions, conditions."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from datetime import date, datetime
from fractions import Fraction
from typing import Any

from myriant.core.plan.keys import KEYS, Key
from myriant.core.plan.places import Path
from myriant.core.plan.problems import Edit
from myriant.core.plan.reporting import Reporter, quoted
from myriant.core.plan.schedule import ScheduleError, zone_names, zone_of
from myriant.core.plan.selectors import Condition, Selector, SelectorError, condition

NAME = re.compile(r"[a-z][a-z0-9-]*")

_DURATION = re.compile(r"\s*(\d{1,9}(?:\.\d{1,9})?)\s*(s|min|h|days?)\s*")

_SECONDS = {"s": 1.0, "min": 60.0, "h": 3600.0, "day": 86400.0, "days": 86400.0}

_LOOSE_DURATION = re.compile(r"\s*(\d{1,9}(?:\.\d{1,9})?)\s*([a-zA-Z]*)\.?\s*")

_LOOSE_UNITS = {
    "": "min",
    "m": "min",
    "mins": "min",
    "minute": "min",
    "minutes": "min",
    "sec": "s",
    "secs": "s",
    "second": "s",
    "seconds": "s",
    "hr": "h",
    "hrs": "h",
    "hour": "h",
    "hours": "h",
    "d": "days",
}

_SIZE = re.compile(r"\s*(\d{1,9}(?:\.\d{1,9})?)\s*(B|kB|MB|GB|KiB|MiB|GiB|TiB)\s*")

_BYTES = {
    "B": 1,
    "kB": 10**3,
    "MB": 10**6,
    "GB": 10**9,
    "KiB": 1 << 10,
    "MiB": 1 << 20,
    "GiB": 1 << 30,
    "TiB": 1 << 40,
}

_TYPE_NAMES = {
    str: "a text",
    bool: "true or false",
    int: "a number",
    float: "a number",
    list: "a list",
    dict: "a table",
}

_NONE: tuple[Edit, ...] = ()


class Values(Reporter):
    """Reads one value of a kind; None where it has none, with the problem noted."""

    def _is(self, path: Path, raw: Any, *types: type) -> bool:
        """Whether a value has one of the types; says so when not, with the repair for the usual slips."""
        if isinstance(raw, types) and not (isinstance(raw, bool) and bool not in types):
            return True
        expected = " or ".join(dict.fromkeys(_TYPE_NAMES[t] for t in types))
        found = _TYPE_NAMES.get(type(raw), "a date")
        key = str(path[-1]) if not isinstance(path[-1], int) else str(path[-2])
        mend, edits = f"write {expected}", _NONE
        shown = self.places.value_text(path) or ""
        new = None
        if str in types and isinstance(raw, int | float) and not isinstance(raw, bool):
            new = quoted(shown)
        elif list in types and isinstance(raw, str | dict):
            new = f"[{shown}]"
        elif bool in types and isinstance(raw, str) and raw.lower() in ("true", "false", "yes", "no"):
            new = "true" if raw.lower() in ("true", "yes") else "false"
        elif int in types and isinstance(raw, str) and re.fullmatch(r"\d{1,9}(\.\d{1,9})?", raw):
            new = raw
        if new is not None and "\n" not in new:
            mend, edits = f"write {new}", self.replace_value(path, new)
        self.problem(path, f"{key} must be {expected}, this is {found}", mend, value=True, edits=edits)
        return False

    def _text(self, spec: Key, path: Path, raw: Any) -> str | None:
        if not self._is(path, raw, str):
            return None
        if not raw.strip() or "\0" in raw:
            self.problem(path, f"{path[-1]} is empty", "write something, or leave the key out", value=True)
            return None
        return str(raw)

    def _any(self, spec: Key, path: Path, raw: Any) -> str | None:
        return str(raw) if self._is(path, raw, str) else None

    def _texts(self, spec: Key, path: Path, raw: Any) -> tuple[str, ...] | None:
        return tuple(text for _, text in self.each_text(raw, path)) if self._is(path, raw, list) else None

    def each_text(self, values: Iterable[Any], path: Path) -> Iterator[tuple[int, str]]:
        what = str(path[-1])
        for i, value in enumerate(values):
            at = (*path, i)
            if isinstance(value, str) and value.strip() and "\0" not in value:
                yield i, value
            elif isinstance(value, int | float) and not isinstance(value, bool):
                shown = self.places.value_text(at) or str(value)
                self.problem(
                    at,
                    f"{what} takes texts; as a number {shown[:40]} would be {str(value)[:40]}",
                    f"quote it: {quoted(shown[:60])}",
                    value=True,
                    edits=self.replace_value(at, quoted(shown)),
                )
            else:
                self.problem(at, f"{what} takes non-empty texts", 'write them as ["…", "…"]', value=True)

    def _flag(self, spec: Key, path: Path, raw: Any) -> bool | None:
        return bool(raw) if self._is(path, raw, bool) else None

    def _whole(self, spec: Key, path: Path, raw: Any) -> int | None:
        if not self._is(path, raw, int):
            return None
        low, high = {"retry": (0, 5), "sample": (2, 4), "version": (1, 1)}.get(
            str(path[-1]) if path[-1] == "version" else str(path[-2]) if len(path) > 1 else "", (1, 100_000)
        )
        if path[-1] == "port":
            high = 65535
        if low <= raw <= high:
            return int(raw)
        if path[-1] == "version":
            edits = self.replace_value(path, "1")
            self.problem(path, f"version {str(raw)[:40]} is not known", "write version = 1", value=True, edits=edits)
        else:
            near = str(low if raw < low else high)
            self.problem(
                path,
                f"{path[-1]} must be from {low} to {high:,}, not {str(raw)[:40]}",
                f"write {near}",
                value=True,
                edits=self.replace_value(path, near),
            )
        return None

    def _duration(self, spec: Key, path: Path, raw: Any) -> float | None:
        key = path[-1]
        if not isinstance(raw, str | int | float) or isinstance(raw, bool):
            self.problem(path, f"{key} must be a duration", 'write for example "20 min"', value=True)
            return None
        match = _DURATION.fullmatch(raw) if isinstance(raw, str) else None
        if match is None:
            loose = _LOOSE_DURATION.fullmatch(str(raw))
            unit = _LOOSE_UNITS.get(loose[2].lower(), loose[2].lower()) if loose else ""
            if not isinstance(raw, str):
                unit = "s" if raw >= 60 else "min"
            mend, edits = 'write for example "20 min"', _NONE
            if loose and unit in _SECONDS:
                mend, edits = f'write "{loose[1]} {unit}"', self.replace_value(path, f'"{loose[1]} {unit}"')
            self.problem(path, f"{key} is no duration", mend, value=True, edits=edits)
            return None
        seconds = float(match[1]) * _SECONDS[match[2]]
        most = 7 * 86400 if key == "timeout" else 3650 * 86400
        if not 0 < seconds <= most:
            limit = "7 days" if key == "timeout" else "10 years"
            self.problem(
                path, f"{key} must be more than 0 and at most {limit}", 'write for example "20 min"', value=True
            )
            return None
        return seconds

    def _size(self, spec: Key, path: Path, raw: Any) -> int | None:
        match = _SIZE.fullmatch(raw) if isinstance(raw, str) else None
        if match is None:
            loose = re.fullmatch(r"\s*(\d{1,9})\s*([kKmMgGtT])[iI]?[bB]?\s*", str(raw))
            new = f'"{loose[1]} {loose[2].upper()}iB"' if loose else ""
            mend = f"write {new}" if new else 'write for example "512 MiB"'
            edits = self.replace_value(path, new) if new else ()
            self.problem(path, f"{path[-1]} is no size", mend, value=True, edits=edits)
            return None
        return int(float(match[1]) * _BYTES[match[2]])

    def _globs(self, spec: Key, path: Path, raw: Any) -> tuple[str, ...] | None:
        if not self._is(path, raw, list):
            return None
        return tuple(text for i, text in self.each_text(raw, path) if self._inside((*path, i), text))

    def _path(self, spec: Key, path: Path, raw: Any) -> str | None:
        text = self._text(spec, path, raw)
        return text if text is not None and self._inside(path, text) else None

    def _inside(self, path: Path, text: str) -> bool:
        if text.startswith(("/", "~")) or ".." in re.split(r"[/\\]", text) or re.match(r"[A-Za-z]:[\\/]", text):
            self.problem(
                path,
                f'"{text[:80]}" leads out of the workspace',
                'write it relative to the workspace: "out/unit.xml"',
                value=True,
            )
            return False
        if "\\" in text:
            new = quoted(text.replace("\\", "/"))
            self.problem(
                path,
                f'"{text[:80]}" is written with backslashes',
                f"write {new[:100]}",
                value=True,
                edits=self.replace_value(path, new),
            )
            return False
        return True

    def name(self, path: Path, text: str, what: str, *, value: bool = False) -> bool:
        """Whether a text is a name; says so when not."""
        if NAME.fullmatch(text) and len(text) <= 60:
            return True
        suggestion = re.sub(r"[^a-z0-9]+", "-", text.lower()).strip("-")[:60]
        fits = bool(NAME.fullmatch(suggestion))
        mend = f"write {suggestion}" if fits else "begin with a letter: unit, slow-tests"
        edits = self.replace_value(path, quoted(suggestion)) if fits and value else ()
        self.problem(
            path,
            f"{what} is small letters, digits and hyphens (at most 60), not {text[:80]!r}",
            mend,
            value=value,
            edits=edits,
        )
        return False

    def _name(self, spec: Key, path: Path, raw: Any) -> str | None:
        text = self._text(spec, path, raw)
        return text if text is not None and self.name(path, text, f"a {path[-1]}", value=True) else None

    def _command(self, spec: Key, path: Path, raw: Any) -> str | tuple[str, ...] | None:
        if not self._is(path, raw, str, list):
            return None
        words = tuple(text for _, text in self.each_text(raw, path)) if isinstance(raw, list) else raw
        if not words or (isinstance(words, str) and (not words.strip() or "\0" in words)):
            self.problem(path, "this command is empty or holds a zero byte", 'write command = "…"', value=True)
            return None
        return words

    def _one(self, spec: Key, path: Path, raw: Any) -> str | None:
        if not self._is(path, raw, str):
            return None
        if raw not in spec.words:
            message = f'"{raw[:80]}" is not known for {path[-1]}'
            self.unknown_value(path, raw, spec.words, message, known_as="write one of")
            return None
        return str(raw)

    def _each(self, spec: Key, path: Path, raw: Any) -> tuple[str, ...] | None:
        if not self._is(path, raw, list):
            return None
        found = []
        for i, text in self.each_text(raw, path):
            if text in spec.words:
                found.append(text)
            else:
                message = f'"{text[:80]}" is not known for {path[-1]}'
                self.unknown_value((*path, i), text, spec.words, message, known_as="write some of")
        return tuple(found)

    def _zone(self, spec: Key, path: Path, raw: Any) -> str | None:
        if not self._is(path, raw, str):
            return None
        try:
            zone_of(raw)
        except ScheduleError as error:
            known = {n.lower(): n for n in zone_names()}
            by_town = {n.rsplit("/", 1)[-1].lower(): n for n in zone_names()}
            asked = raw.lower().replace(" ", "_")
            near = known.get(asked) or by_town.get(asked) or self.nearest(raw, known) or ""
            near = known.get(near, near)
            mend = f'did you mean "{near}"?' if near else error.mend
            edits = self.replace_value(path, quoted(near)) if near else ()
            self.problem(path, str(error), mend, value=True, edits=edits)
            return None
        return str(raw)

    def _date(self, spec: Key, path: Path, raw: Any) -> date | None:
        if isinstance(raw, date) and not isinstance(raw, datetime):
            return raw
        if isinstance(raw, str):
            try:
                found = date.fromisoformat(raw)
            except ValueError:
                pass
            else:
                edits = self.replace_value(path, found.isoformat())
                self.problem(
                    path, f"{path[-1]} must be a date, this is a text", f"write {found}", value=True, edits=edits
                )
                return None
        self.problem(path, f"{path[-1]} must be a date", "write it as 2026-11-01, without quotes", value=True)
        return None

    def _env(self, spec: Key, path: Path, raw: Any) -> dict[str, str] | None:
        if not self._is(path, raw, dict):
            return None
        found = {}
        for key, value in raw.items():
            at = (*path, key)
            if path[0] in ("jobs", "defaults") and key in KEYS["job"] and path in self.places.tables:
                target = path[:-1] if path[-2] != "steps" else path[:2]
                self.warn(
                    at,
                    f"{key} stands under env, so it is a variable; it is also a key of the job",
                    f"move it above [{'.'.join(map(str, path))}] if the job's key was meant",
                    edits=self.moved(at, target),
                )
            if not re.fullmatch(r"[A-Za-z_][A-Za-z0-9_]*", key):
                self.problem(at, f"{key[:80]!r} cannot be the name of a variable", "use letters, digits and _")
            elif key.startswith("MYRIANT"):
                self.problem(at, "names that begin with MYRIANT are given by Myriant", "choose another name")
            elif not isinstance(value, str) or "\0" in value:
                shown = self.places.value_text(at) or ""
                new = quoted(shown) if isinstance(value, int | float) else '"…"'
                edits = self.replace_value(at, new) if isinstance(value, int | float) else ()
                self.problem(at, f"{key} must be a text", f"quote it: {key} = {new}", value=True, edits=edits)
            else:
                found[key] = value
        return found

    def _pairs(self, spec: Key, path: Path, raw: Any) -> dict[str, str] | None:
        if not self._is(path, raw, dict):
            return None
        found = {}
        for key, value in raw.items():
            at = (*path, key)
            if self.name(at, key, "a name") and self._is(at, value, str) and self._inside(at, value):
                found[key] = value
        return found

    def _pin(self, spec: Key, path: Path, raw: Any) -> dict[str, str] | None:
        if not self._is(path, raw, dict):
            return None
        found = {}
        for key, value in raw.items():
            at = (*path, key)
            if self.name(at, key, "a runtime") and self._is(at, value, str) and self.version(at, key, value):
                found[key] = value
        return found

    def version(self, path: Path, family: str, value: str) -> bool:
        """Whether a runner could offer such a version; says so when not."""
        if value == "system" or re.fullmatch(r"\d{1,9}(\.\d{1,9}){0,3}", value):
            return True
        plain = re.search(r"\d{1,9}(\.\d{1,9}){0,3}", value)
        mend = f'write "{plain[0]}"' if plain else 'write a full or partial version like "3.12", or "system"'
        edits = self.replace_value(path, f'"{plain[0]}"') if plain else ()
        message = f'"{value[:80]}" is no version of {family} that a runner could offer'
        self.problem(path, message, mend, value=True, edits=edits)
        return False

    def _vary(self, spec: Key, path: Path, raw: Any) -> dict[str, tuple[str, ...]] | None:
        if not self._is(path, raw, dict):
            return None
        found: dict[str, tuple[str, ...]] = {}
        for key, values in raw.items():
            at = (*path, key)
            if not isinstance(values, list) and key in KEYS["job"] and path[0] == "jobs":
                self.problem(
                    at,
                    f"{key} stands under vary but belongs to the job",
                    f"move it above [jobs.{path[1]}.vary]",
                    edits=self.moved(at, path[:2]),
                )
            elif self.name(at, key, "a dimension") and self._is(at, values, list):
                if key in ("event", "branch", "from", "tag", "job"):
                    self.problem(
                        at, f"{key} is a word of selectors and cannot be a dimension", f"choose another: {key}-kind"
                    )
                found[key] = self._dimension(at, key, values)
        return found

    def _dimension(self, at: Path, key: str, values: list[Any]) -> tuple[str, ...]:
        if not values:
            self.problem(at, f"{key} has no values, so the job would have no cell", "give it at least one", value=True)
        seen: set[str] = set()
        for i, text in self.each_text(values, at):
            if text in seen:
                self.problem((*at, i), f'{key} has the value "{text[:80]}" twice', "write it once", value=True)
            elif re.search(r"[,;|\x00-\x1f]", text) or text != text.strip() or text[0] in "!<>" or len(text) > 120:
                self.problem(
                    (*at, i),
                    f"the value {text[:80]!r} has a comma, a sign of selectors, blanks around it or over 120 letters",
                    "choose a plain short text",
                    value=True,
                )
            seen.add(text)
        return tuple(dict.fromkeys(v for v in values if isinstance(v, str) and v.strip()))

    def _rows(self, path: Path, raw: Any) -> Iterator[tuple[Path, Mapping[str, Any]]]:
        if not isinstance(raw, list | dict):
            self._is(path, raw, dict, list)
            return
        for i, row in enumerate([raw] if isinstance(raw, dict) else raw):
            at = path if isinstance(raw, dict) else (*path, i)
            if isinstance(row, dict) and row:
                yield at, row
            else:
                mend = 'write { python = "3.8" }'
                self.problem(at, f"each of {path[-1]} must be a table with a condition", mend, value=True)

    def _selector(self, spec: Key, path: Path, raw: Any) -> Selector:
        alternatives = []
        for at, row in self._rows(path, raw):
            conditions = [c for k, v in row.items() if (c := self._condition((*at, k), k, v)) is not None]
            if len(conditions) == len(row):
                alternatives.append(tuple(conditions))
        return Selector(tuple(alternatives))

    def _condition(self, path: Path, key: str, raw: Any) -> Condition | None:
        texts = raw if isinstance(raw, list) else [raw]
        if not all(isinstance(t, str) for t in texts):
            shown = self.places.value_text(path) or ""
            edits: tuple[Edit, ...] = ()
            if isinstance(raw, int | float) and not isinstance(raw, bool):
                edits = self.replace_value(path, quoted(shown))
            self.problem(path, "a selector takes texts", f"quote it: {quoted(shown[:60])}", value=True, edits=edits)
            return None
        try:
            return condition(key, texts)
        except SelectorError as error:
            mend, edits = 'write a value, a glob, a list or a comparison like "<= 3.9"', _NONE
            turned = re.fullmatch(r"=([<>=])\s*(.+)", texts[0].strip()) if isinstance(raw, str) else None
            if turned:
                new = quoted(turned[2] if turned[1] == "=" else f"{turned[1]}= {turned[2]}")
                mend, edits = f"write {new}", self.replace_value(path, new)
            self.problem(path, str(error), mend, value=True, edits=edits)
            return None

    def _limit(self, spec: Key, path: Path, raw: Any) -> Fraction | str | None:
        if isinstance(raw, str):
            if raw == "baseline" or re.fullmatch(r"best of [1-9]\d{0,5}", raw):
                return raw
            percent = re.fullmatch(r"\s*(\d{1,3}(?:\.\d+)?)\s*%?\s*", raw)
            mend, edits = 'write a number without quotes, "baseline" or "best of 20"', _NONE
            if percent:
                new = f"{float(percent[1]) / 100:g}" if "%" in raw else percent[1]
                mend, edits = f"write {new}", self.replace_value(path, new)
            elif self.nearest(raw, ["baseline"]):
                mend, edits = 'did you mean "baseline"?', self.replace_value(path, '"baseline"')
            message = f'{path[-1]} takes a number or "baseline", not "{raw[:80]}"'
            self.problem(path, message, mend, value=True, edits=edits)
            return None
        if not self._is(path, raw, int, float):
            return None
        shown = self.places.value_text(path) or str(raw)
        try:
            if isinstance(raw, int):
                return Fraction(raw)
            return Fraction(shown.replace("_", "") if re.fullmatch(r"[+-]?[\d_]{1,20}\.[\d_]{1,40}", shown) else raw)
        except (ValueError, ZeroDivisionError, OverflowError):
            self.problem(path, f"{shown[:40]} is no limit that can be met", "write a plain number", value=True)
            return None
