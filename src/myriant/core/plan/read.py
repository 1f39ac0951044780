"""From the bytes of `myriant.toml` to a plan, or to all that is wrong with it."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from fractions import Fraction
from math import prod
from typing import Any, Literal, cast

from myriant.core.plan import model
from myriant.core.plan.keys import FRACTIONS, KEYS, MEASURES, NOT_YET
from myriant.core.plan.model import FILE_NAME, Collect, Job, Plan, PushEvent, Rule, Step
from myriant.core.plan.places import Path, Places, locate
from myriant.core.plan.problems import Level, Place, Problem, nearest
from myriant.core.plan.selectors import Condition, Selector, SelectorError, condition

NAME = re.compile(r"[a-z][a-z0-9-]*")
_DURATION = re.compile(r"\s*(\d+(?:\.\d+)?)\s*(s|min|h|days?)\s*")
_SECONDS = {"s": 1.0, "min": 60.0, "h": 3600.0, "day": 86400.0, "days": 86400.0}
_TYPE_NAMES = {
    str: "a text",
    bool: "true or false",
    int: "a number",
    float: "a number",
    list: "a list",
    dict: "a table",
}


@dataclass(frozen=True, slots=True)
class Reading:
    """A plan, when there was no error, and every problem in the order of their places."""

    plan: Plan | None
    problems: tuple[Problem, ...]

    @property
    def errors(self) -> list[Problem]:
        return [p for p in self.problems if p.level is Level.ERROR]


def read_plan(source: bytes, file: str = FILE_NAME) -> Reading:
    """Read and check a plan; never raises for what the file says, never executes anything of it."""
    problems: list[Problem] = []
    data = _values(source, file, problems)
    if data is None:
        return Reading(None, tuple(problems))
    reader = _Reader(file, locate(source), problems)
    plan = reader.plan(data)
    problems.sort(key=lambda p: (p.line, p.column))
    faulty = any(p.level is Level.ERROR for p in problems)
    return Reading(None if faulty else plan, tuple(problems))


def _values(source: bytes, file: str, problems: list[Problem]) -> dict[str, Any] | None:
    def fault(line: int, column: int, text: str, message: str, mend: str) -> None:
        problems.append(Problem(Level.ERROR, file, line, column, text, message, mend))

    if len(source) > model.MOST_BYTES:
        fault(1, 1, "", f"the plan has {len(source):,} bytes; at most {model.MOST_BYTES:,} are read", "make it smaller")
        return None
    try:
        text = source.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = source.count(b"\n", 0, error.start) + 1
        column = error.start - source.rfind(b"\n", 0, error.start)
        fault(
            line,
            column,
            repr(source[error.start : error.start + 1])[2:-1],
            "this byte is not UTF-8",
            "save it as UTF-8",
        )
        return None
    try:
        return tomllib.loads(text.replace("\r\n", "\n"))
    except tomllib.TOMLDecodeError as error:
        found = re.search(r"\(at line (\d+), column (\d+)\)", str(error))
        lines = text.replace("\r\n", "\n").split("\n")
        line, column = (int(found[1]), int(found[2])) if found else (len(lines), len(lines[-1]) + 1)
        reason = str(error).split(" (at ")[0]
        shown = lines[line - 1].strip()[:200] if line <= len(lines) else ""
        fault(line, column, shown, f"not valid TOML: {reason[:1].lower()}{reason[1:]}", _toml_mend(reason))
    except RecursionError:
        fault(1, 1, "", "the values are nested too deeply", "nest at most a few levels")
    return None


def _toml_mend(reason: str) -> str:
    for sign, mend in (
        ("overwrite", "remove or rename one of the two"),
        ("twice", "write this table once"),
        ("declare", "write this table once"),
        ("Invalid value", 'quote texts: key = "value"'),
        ("Unescaped", "write a backslash as \\\\ or use 'single quotes'"),
        ("Illegal character", "close the text with its quote on the same line"),
        ("Unclosed", "close the bracket that was opened"),
        ("=", 'write key = "value"'),
    ):
        if sign in reason:
            return mend
    return "correct this place; everything before it was understood"


class _Table:
    """One table of the plan while it is read: what is asked for is taken, what remains is a problem."""

    def __init__(self, reader: _Reader, path: Path, data: dict[str, Any], kind: str) -> None:
        self.reader, self.path, self.data, self.kind = reader, path, data, kind
        reader.keys(self)

    def __contains__(self, key: str) -> bool:
        return key in self.data and key not in NOT_YET.get(self.kind, ())

    def take(self, key: str, *types: type) -> Any:
        """The value at `key` when it has one of the types; None when absent or, with a problem, of another type."""
        if key not in self:
            return None
        value = self.data[key]
        if isinstance(value, types) and not (isinstance(value, bool) and bool not in types):
            return value
        expected = " or ".join(dict.fromkeys(_TYPE_NAMES[t] for t in types))
        found = _TYPE_NAMES.get(type(value), "a date")
        self.problem(key, f"{key} must be {expected}, this is {found}", f"write {expected}", value=True)
        return None

    def text(self, key: str) -> str | None:
        value = self.take(key, str)
        if value is not None and not value.strip():
            self.problem(key, f"{key} is empty", "write something, or leave the key out", value=True)
            return None
        return cast(str | None, value)

    def texts(self, key: str) -> tuple[str, ...]:
        value = self.take(key, list)
        return () if value is None else tuple(self.reader.each_text(value, (*self.path, key), key))

    def table(self, key: str, kind: str) -> _Table | None:
        value = self.take(key, dict)
        return None if value is None else _Table(self.reader, (*self.path, key), value, kind)

    def tables(self, key: str, kind: str) -> list[_Table]:
        value = self.take(key, list, dict) if kind == "collect" else self.take(key, list)
        if isinstance(value, dict):
            return [_Table(self.reader, (*self.path, key), value, kind)]
        found = []
        for i, item in enumerate(value or ()):
            path = (*self.path, key, i)
            if isinstance(item, dict):
                found.append(_Table(self.reader, path, item, kind))
            else:
                self.reader.problem(path, f"each of {key} must be a table", "write { … } or [[…]]", value=True)
        return found

    def problem(self, key: str, message: str, mend: str, *, value: bool = False) -> None:
        self.reader.problem((*self.path, key), message, mend, value=value)


class _Reader:
    def __init__(self, file: str, places: Places, problems: list[Problem]) -> None:
        self.file, self.places, self.problems = file, places, problems

    def problem(self, path: Path, message: str, mend: str, *, value: bool = False, level: Level = Level.ERROR) -> None:
        place: Place = self.places.of_value(path) if value else self.places.of_key(path)
        self.problems.append(Problem(level, self.file, place.line, place.column, place.text, message, mend))

    def keys(self, table: _Table) -> None:
        """Name the keys that this kind of table does not have, or does not execute yet."""
        known = KEYS.get(table.kind)
        if known is None:
            return
        for key in table.data:
            path = (*table.path, key)
            if key in NOT_YET[table.kind]:
                self.problem(
                    path, f'"{key}" is a key of the plan format that is not yet executed', "leave it out for now"
                )
            elif key not in known:
                self.problem(path, f'unknown key "{key[:80]}" in {_where(table)}', self._mend_key(table, key))

    def _mend_key(self, table: _Table, key: str) -> str:
        if table.kind == "step" and key in KEYS["job"] and len(table.path) >= 4:
            job, number = table.path[1], int(table.path[3]) + 1
            return (
                f"{key} stands under step {number} but belongs to the job: move it above the first [[jobs.{job}.steps]]"
            )
        near = nearest(key, KEYS[table.kind])
        return f"did you mean {near}?" if near else f"known here: {', '.join(sorted(KEYS[table.kind]))}"

    def each_text(self, values: Iterable[Any], path: Path, what: str) -> Iterator[str]:
        for i, value in enumerate(values):
            if isinstance(value, str) and value.strip():
                yield value
            elif isinstance(value, int | float) and not isinstance(value, bool):
                place = self.places.of_value((*path, i))
                quoted = place.text or str(value)
                self.problem(
                    (*path, i),
                    f"{what} takes texts; as a number {quoted} would be {value}",
                    f'quote it: "{quoted}"',
                    value=True,
                )
            else:
                self.problem((*path, i), f"{what} takes non-empty texts", 'write them as ["…", "…"]', value=True)

    def plan(self, data: dict[str, Any]) -> Plan:
        top = _Table(self, (), data, "plan")
        version = top.take("version", int)
        if "version" not in data:
            self.problem((), "the plan does not say its version", "write version = 1 on the first line")
        elif version is not None and version != 1:
            top.problem("version", f"version {version} is not known", "write version = 1", value=True)
        push: PushEvent | None = PushEvent()
        events = top.table("events", "events")
        if events is not None:
            table = events.table("push", "push")
            push = PushEvent(table.texts("branches")) if table else None
        jobs = tuple(self.jobs(top))
        rules = tuple(self.rules(top, {job.id for job in jobs}))
        return Plan(push, jobs, rules)

    def jobs(self, top: _Table) -> Iterator[Job]:
        named = top.table("jobs", "jobs")
        if named is None or not named.data:
            if not any(p.level is Level.ERROR and "jobs" in p.text for p in self.problems):
                self.problem(("jobs",), "the plan has no job", "write [jobs.unit] with [[jobs.unit.steps]]")
            return
        if len(named.data) > model.MOST_JOBS:
            self.problem(("jobs",), f"{len(named.data)} jobs; at most {model.MOST_JOBS}", "split the plan")
        for job_id in list(named.data)[: model.MOST_JOBS]:
            if not self.name(("jobs", job_id), job_id, "a job's id"):
                continue
            table = named.table(job_id, "job")
            if table is not None:
                yield self.job(job_id, table)

    def name(self, path: Path, text: str, what: str) -> bool:
        if NAME.fullmatch(text) and len(text) <= 60:
            return True
        suggestion = re.sub(r"[^a-z0-9]+", "-", text.lower()).strip("-")[:60]
        mend = f"write {suggestion}" if NAME.fullmatch(suggestion) else "begin with a letter: unit, slow-tests"
        self.problem(path, f"{what} is small letters, digits and hyphens (at most 60), not {text[:80]!r}", mend)
        return False

    def job(self, job_id: str, table: _Table) -> Job:
        vary = self.vary(table)
        runtime = tuple(self.runtimes(table, vary))
        steps = tuple(self.steps(table))
        timeout = self.duration(table, "timeout")
        return Job(
            id=job_id,
            title=table.text("title") or job_id,
            vary=vary,
            runtime=runtime,
            drop=self.selector(table, "drop", vary),
            steps=steps,
            env=dict(self.env(table)),
            timeout=timeout or model.DEFAULT_TIMEOUT,
        )

    def vary(self, table: _Table) -> dict[str, tuple[str, ...]]:
        dimensions = table.table("vary", "vary")
        found: dict[str, tuple[str, ...]] = {}
        for key in dimensions.data if dimensions else ():
            assert dimensions is not None
            if not self.name((*dimensions.path, key), key, "a dimension"):
                continue
            values = dimensions.texts(key)
            if isinstance(dimensions.data[key], list) and not dimensions.data[key]:
                dimensions.problem(
                    key, f"{key} has no values, so the job would have no cell", "give it at least one", value=True
                )
            for value in {v for v in values if values.count(v) > 1}:
                dimensions.problem(key, f'{key} has the value "{value[:80]}" twice', "write it once", value=True)
            for value in values:
                if re.search(r"[,;|\x00-\x1f]", value) or len(value) > 120:
                    dimensions.problem(
                        key,
                        f"the value {value[:80]!r} has a comma, a control sign or over 120 letters",
                        "choose a plain short text",
                        value=True,
                    )
            found[key] = tuple(dict.fromkeys(values))
        total = prod(len(v) for v in found.values())
        if total > model.MOST_CELLS:
            table.problem(
                "vary", f"{total:,} cells; at most {model.MOST_CELLS:,} a job", "take values out, or split the job"
            )
            return {}
        return found

    def runtimes(self, table: _Table, vary: dict[str, tuple[str, ...]]) -> Iterator[str]:
        for i, family in enumerate(table.texts("runtime")):
            path = (*table.path, "runtime", i)
            if family not in vary:
                near = nearest(family, vary)
                self.problem(
                    path,
                    f'runtime names "{family[:80]}", which is no dimension of this job',
                    f"did you mean {near}?" if near else f'add it to vary: vary = {{ {family[:80]} = ["…"] }}',
                    value=True,
                )
                continue
            for j, value in enumerate(vary[family]):
                if value != "system" and not re.fullmatch(r"\d+(\.\d+){0,3}", value):
                    self.problem(
                        ("jobs", table.path[1], "vary", family, j),
                        f'"{value}" is no version of {family} that a runner could offer',
                        'write a full or partial version like "3.12", or "system"',
                        value=True,
                    )
            yield family

    def env(self, table: _Table) -> Iterator[tuple[str, str]]:
        env = table.table("env", "env")
        for key, value in (env.data if env else {}).items():
            assert env is not None
            if not re.fullmatch(r"[A-Za-z_][A-Za-z0-9_]*", key):
                env.problem(key, f"{key[:80]!r} cannot be the name of a variable", "use letters, digits and _")
            elif key.startswith("MYRIANT_"):
                env.problem(key, "names that begin with MYRIANT_ are given by Myriant", "choose another name")
            elif not isinstance(value, str) or "\0" in value:
                env.problem(key, f"{key} must be a text", f'quote it: {key} = "{value}"', value=True)
            else:
                yield key, value

    def steps(self, table: _Table) -> Iterator[Step]:
        rows = table.tables("steps", "step")
        if not rows and not (isinstance(table.data.get("steps"), list) and table.data["steps"]):
            self.problem(table.path, f"job {table.path[1]} has no step", f"write [[jobs.{table.path[1]}.steps]]")
        if len(rows) > model.MOST_STEPS:
            table.problem("steps", f"{len(rows)} steps; at most {model.MOST_STEPS}", "put commands into a script")
        for number, row in enumerate(rows[: model.MOST_STEPS], 1):
            name = row.text("name") or f"step {number}"
            command: str | tuple[str, ...] | None = row.take("command", str, list)
            if isinstance(command, list):
                command = row.texts("command")
            if not command and "command" not in row.data and not set(row.data) & {"shared"}:
                self.problem(row.path, f'step "{name[:80]}" has no command', 'write command = "…"')
            elif command is not None and (not command or "\0" in "".join(command)):
                row.problem("command", "this command is empty or holds a zero byte", 'write command = "…"', value=True)
            collects = tuple(self.collect(c) for c in row.tables("collect", "collect"))
            yield Step(name[:200], command or "true", collects)

    def collect(self, table: _Table) -> Collect:
        kind = table.text("kind") or "unit"
        if "kind" in table:
            self.name((*table.path, "kind"), kind, "a kind")
        tests, coverage = tuple(self.globs(table, "tests")), tuple(self.globs(table, "coverage"))
        if not tests and not coverage and not set(table.data) & {"tests", "coverage", "analysis", "attachments"}:
            self.problem(table.path, "this collect collects nothing", 'write tests = ["out/unit.xml"]')
        return Collect(kind, tests, coverage, table.take("may-be-empty", bool) or False)

    def globs(self, table: _Table, key: str) -> Iterator[str]:
        for i, glob in enumerate(table.texts(key)):
            if glob.startswith("/") or ".." in glob.split("/") or "\0" in glob or glob.startswith("~"):
                self.problem(
                    (*table.path, key, i),
                    f'"{glob[:80]}" leads out of the workspace',
                    'write it relative to the workspace: "out/unit.xml"',
                    value=True,
                )
            else:
                yield glob

    def duration(self, table: _Table, key: str) -> float | None:
        text = table.take(key, str, int, float)
        if text is None:
            return None
        match = _DURATION.fullmatch(str(text)) if isinstance(text, str) else None
        if match is None:
            shown = text if isinstance(text, str) else f"{text} s"
            table.problem(
                key,
                f"{key} is no duration",
                f'write for example "{shown if not isinstance(text, str) else "20 min"}"',
                value=True,
            )
            return None
        seconds = float(match[1]) * _SECONDS[match[2]]
        if not 0 < seconds <= 7 * 86400:
            table.problem(
                key, f"{key} must be more than 0 and at most 7 days", 'write for example "20 min"', value=True
            )
            return None
        return seconds

    def selector(self, table: _Table, key: str, vary: dict[str, tuple[str, ...]]) -> Selector:
        value = table.take(key, list, dict)
        rows = [value] if isinstance(value, dict) else value or []
        alternatives = []
        for i, row in enumerate(rows):
            path: Path = (*table.path, key) if isinstance(value, dict) else (*table.path, key, i)
            if not isinstance(row, dict) or not row:
                self.problem(path, f"each of {key} must be a table with a condition", '{ python = "3.8" }', value=True)
                continue
            conditions = [c for k, v in row.items() if (c := self.condition((*path, k), k, v, vary))]
            alternatives.append(tuple(conditions))
        return Selector(tuple(a for a in alternatives if a))

    def condition(self, path: Path, key: str, value: Any, vary: dict[str, tuple[str, ...]]) -> Condition | None:
        if key not in vary:
            near = nearest(key, vary)
            self.problem(
                path,
                f'"{key[:80]}" is no dimension of this job',
                f"did you mean {near}?" if near else f"dimensions here: {', '.join(vary) or 'none'}",
            )
            return None
        texts = [value] if not isinstance(value, list) else value
        if not all(isinstance(t, str) for t in texts):
            shown = self.places.of_value(path).text
            self.problem(path, "values of dimensions are texts", f'quote it: "{shown}"', value=True)
            return None
        try:
            made = condition(key, texts)
        except SelectorError as error:
            self.problem(path, str(error), 'write a value, a glob, a list or a comparison like "<= 3.9"', value=True)
            return None
        if not any(made.holds({key: v}) for v in vary[key]):
            near = nearest(texts[0], vary[key])
            self.problem(
                path,
                f"this never holds: {key} is one of {', '.join(vary[key])[:200]}",
                f'did you mean "{near}"?' if near else "name a value that the dimension has",
                value=True,
            )
        return made

    def rules(self, top: _Table, jobs: set[str]) -> Iterator[Rule]:
        gate = top.table("gate", "gate")
        for row in gate.tables("rules", "rule") if gate else ():
            rule = self.rule(row, jobs)
            if rule is not None:
                yield rule

    def rule(self, row: _Table, jobs: set[str]) -> Rule | None:
        measure = row.text("measure")
        if measure is None:
            if "measure" not in row.data:
                self.problem(row.path, "this rule names no measure", 'write measure = "tests.new"')
            return None
        if measure not in MEASURES:
            near = nearest(measure, MEASURES)
            row.problem(
                "measure",
                f'"{measure[:80]}" is no measure',
                f"did you mean {near}?" if near else f"measures: {', '.join(MEASURES)}",
                value=True,
            )
            return None
        for i, job in enumerate(row.texts("jobs")):
            if job not in jobs:
                near = nearest(job, jobs)
                mend = f"did you mean {near}?" if near else f"jobs of this plan: {', '.join(sorted(jobs))}"
                self.problem((*row.path, "jobs", i), f'there is no job "{job[:80]}"', mend, value=True)
        level = row.text("level") or "block"
        if level not in ("block", "warn"):
            row.problem("level", f'"{level[:80]}" is no level', 'write "block" or "warn"', value=True)
        signs = [s for s in ("at-most", "at-least") if s in row]
        if len(signs) != 1:
            what = "both at-most and at-least" if signs else "no limit"
            self.problem(row.path, f"this rule has {what}", "write one of at-most = 0 or at-least = 0.80")
            return None
        sign = cast(Literal["at-most", "at-least"], signs[0])
        limit = self.limit(row, sign, measure)
        if limit is None:
            return None
        name = row.text("name") or f"{measure} {sign} {row.data[sign]}"
        line = self.places.of_key(row.path).line
        return Rule(name, measure, sign, limit, cast(Literal["block", "warn"], level), row.texts("jobs"), line)

    def limit(self, row: _Table, sign: str, measure: str) -> Fraction | Literal["baseline"] | None:
        value = row.take(sign, int, float, str)
        if value is None:
            return None
        if isinstance(value, str):
            if value == "baseline":
                return "baseline"
            mend = 'write a number without quotes, or "baseline"'
            row.problem(sign, f'{sign} takes a number or "baseline", not "{value[:80]}"', mend, value=True)
            return None
        shown = self.places.of_value((*row.path, sign)).text
        try:
            limit = Fraction(shown.replace("_", ""))
        except (ValueError, ZeroDivisionError):
            row.problem(sign, f"{shown} is no limit that can be met", "write a plain number", value=True)
            return None
        if measure in FRACTIONS and not 0 <= limit <= 1:
            suggestion = f"write {float(limit / 100):g}" if 1 < limit <= 100 else "write a fraction from 0 to 1"
            row.problem(sign, f"{measure} is a fraction from 0 to 1, {shown} is outside", suggestion, value=True)
            return None
        if limit < 0:
            row.problem(sign, "a limit below zero can never be exceeded or met", "write 0 or more", value=True)
            return None
        return limit


def _where(table: _Table) -> str:
    match table.kind:
        case "job":
            return f"job {table.path[1]}"
        case "step":
            return f"step {int(table.path[3]) + 1} of job {table.path[1]}"
        case "plan":
            return "the plan"
        case kind:
            return kind
