"""Changing a plan's text by its meaning: a value set or taken out, a piece put in where it belongs.

Comments, order and everything that is not touched stay as they are.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Any

from myriant.core.plan.places import Path, Places, locate
from myriant.core.plan.problems import Edit, Place, with_edits
from myriant.core.plan.reporting import quoted


@dataclass(frozen=True, slots=True)
class Piece:
    """Something that can be inserted; `where` is the table it belongs to: plan, events, job, step."""

    name: str
    says: str
    where: str
    text: str


PIECES = (
    Piece("step", "a command of a job", "steps", 'name    = "…"\ncommand = "…"'),
    Piece("tests", "results that a step wrote", "step", 'collect = { tests = ["out/unit.xml"] }'),
    Piece(
        "tests and coverage",
        "results and coverage that a step wrote",
        "step",
        'collect = { tests = ["out/unit.xml"], coverage = ["out/coverage.xml"] }',
    ),
    Piece("analysis", "static analysis that a step wrote", "step", 'collect = { analysis = ["out/style.sarif"] }'),
    Piece("condition of a step", "the cells and events for which it runs", "step", 'when = [{ event = "push" }]'),
    Piece(
        "retest", "how failed tests alone are run again", "step", 'retest = { command = "…", each = "{file}::{name}" }'
    ),
    Piece("job", "a named unit: its steps run on one runner, in one fresh workspace", "jobs", ""),
    Piece("dimension", "what a job varies", "job", 'vary = { python = ["3.12", "3.13"] }'),
    Piece(
        "sample",
        "a subset of the cells that still covers every pair",
        "job",
        'sample = { strength = 2, events = ["push"] }',
    ),
    Piece("advisory cells", "cells that inform but cannot hold a run", "job", 'advisory = [{ python = ">= 3.14" }]'),
    Piece("dropped cells", "combinations that are taken out", "job", 'drop = [{ python = "3.12" }]'),
    Piece(
        "condition of a job",
        "the events and cells for which it runs",
        "job",
        'when = [{ event = "pull-request" }, { branch = "main" }]',
    ),
    Piece("only if files change", "the files that must change for a job to run", "job", 'touching = ["src/**"]'),
    Piece("order", "jobs that must pass first", "job", 'after = ["unit"]'),
    Piece("time limit", "how long an attempt may take", "job", 'timeout = "20 min"'),
    Piece("variables", "variables that the commands see", "job", 'env = { TZ = "UTC" }'),
    Piece(
        "cache",
        "files kept between attempts",
        "job",
        'cache = [{ name = "packages", keep = [".venv"], renew-on = ["requirements*.txt"] }]',
    ),
    Piece(
        "companion",
        "a database or server beside the steps",
        "job",
        'companions = { db = { command = "…", port = 5432, ready = { tcp = true } } }',
    ),
    Piece("artifacts", "files kept from an attempt", "job", 'artifacts = [{ files = ["dist/**"], keep = "14 days" }]'),
    Piece("secrets", "stored secrets, given as variables", "job", 'secrets = ["NAME"]'),
    Piece(
        "settings",
        "a file of settings copied into place",
        "job",
        'settings = { example = ".env.example", file = ".env.ci", to = ".env" }',
    ),
    Piece("gate behind the verdict", "runs only when the verdict is clear", "job", "gated = true"),
    Piece(
        "approval", "a person's word before it starts", "job", 'approval = { by = ["maintainer"], within = "2 days" }'
    ),
    Piece("push", "which pushes start a run", "events", 'push = { branches = ["main"] }'),
    Piece("pull request", "which pull requests start a run", "events", 'pull-request = { into = ["main"] }'),
    Piece("tag", "which tags start a run", "events", 'tag = { names = ["v*"] }'),
    Piece(
        "schedule",
        "times at which a branch is tested",
        "schedule",
        'name   = "nightly"\nevery  = "day"\nat     = "02:20"\nzone   = "UTC"',
    ),
    Piece(
        "rule",
        "a limit that every run must meet",
        "rules",
        'name    = "no new failures"\nmeasure = "tests.new"\nat-most = 0',
    ),
    Piece(
        "coverage rule",
        "a limit on line coverage",
        "rules",
        'name     = "line coverage"\nmeasure  = "coverage.line"\nat-least = 0.80',
    ),
    Piece(
        "shared steps",
        "a common beginning, written once",
        "shared",
        'steps = [\n  { name = "prepare", command = "…" },\n]',
    ),
)


def toml_value(value: Any) -> str:
    """A value as TOML writes it on one line. Raises ValueError for what TOML has no words for."""
    match value:
        case bool():
            return "true" if value else "false"
        case int() | float():
            return repr(value)
        case str():
            return quoted(value)
        case list():
            return f"[{', '.join(toml_value(v) for v in value)}]"
        case dict():
            pairs = ", ".join(f"{_key(str(k))} = {toml_value(v)}" for k, v in value.items())
            return f"{{ {pairs} }}" if pairs else "{}"
        case _:
            raise ValueError(f"{type(value).__name__} is no value of TOML")


def _key(text: str) -> str:
    return text if re.fullmatch(r"[A-Za-z0-9_-]+", text) else quoted(text)


def set_value(text: str, path: Path, value: Any) -> str:
    """The text with `value` at `path`; None takes the key out. A text that cannot be changed so is returned as it is."""
    places = locate(text.encode("utf-8", "surrogatepass"))
    if value is None:
        return _without(text, places, path)
    written = toml_value(value)
    if path in places.values:
        place = places.of_value(path)
        return with_edits(text, [_span(place, written)])
    return _with(text, places, path, written)


def _with(text: str, places: Places, path: Path, written: str) -> str:
    """Add a key that is not there yet to the table where it belongs."""
    parent, key = path[:-1], _key(str(path[-1]))
    if not parent:
        ends = [p.end_line for q in places.pairs if len(q) == 1 and (p := places.of_pair(q)) is not None]
        line = max(ends, default=0) + 1
        return _lines_in(text, line, f"{key} = {written}")
    if (table := places.of_table(parent)) is not None:
        pairs = [q for q in places.pairs if q[:-1] == parent]
        width = max((len(str(q[-1])) for q in pairs), default=0)
        return with_edits(text, [_at(table.end_line, table.end_column, f"\n{key:<{width}} = {written}")])
    inline = places.value_text(parent)
    if inline is not None and inline.startswith("{"):
        place = places.of_value(parent)
        body = inline[1:-1].strip().rstrip(",")
        return with_edits(text, [_span(place, f"{{ {body}{', ' if body else ''}{key} = {written} }}")])
    return _with(text, places, parent, f"{{ {key} = {written} }}")


def _without(text: str, places: Places, path: Path) -> str:
    pair = places.of_pair(path)
    table = places.of_table(path)
    lines = text.split("\n")
    if pair is not None:
        alone = (
            not lines[pair.line - 1][: pair.column - 1].strip()
            and not lines[pair.end_line - 1][pair.end_column - 1 :].strip()
        )
        if alone:
            return "\n".join([*lines[: pair.line - 1], *lines[pair.end_line :]])
        start = lines[pair.line - 1][: pair.column - 1].rstrip()
        rest = lines[pair.end_line - 1][pair.end_column - 1 :].lstrip()
        if rest.startswith(","):
            rest = rest[1:].lstrip()
        elif start.endswith(","):
            start = start[:-1]
        return "\n".join([*lines[: pair.line - 1], f"{start} {rest}", *lines[pair.end_line :]])
    if table is not None:
        below = [p for q in places.tables if q[: len(path)] == path and (p := places.of_table(q)) is not None]
        for place in sorted(below, key=lambda p: -p.line):
            lines = lines[: place.line - 1] + lines[place.end_line :]
        return re.sub(r"\n{3,}", "\n\n", "\n".join(lines))
    return text


def insert_piece(text: str, name: str, line: int) -> tuple[str, int]:
    """The text with a piece put where it belongs for a cursor at `line`, and the line where it then stands."""
    piece = next((p for p in PIECES if p.name == name), None)
    if piece is None:
        return text, line
    places = locate(text.encode("utf-8", "surrogatepass"))
    job = _job_at(places, line)
    match piece.where:
        case "plan":
            done = _appended(text, piece.text)
        case "jobs":
            done = _appended(text, _new_job(places))
        case "rules":
            done = _appended(text, f"[[gate.rules]]\n{piece.text}")
        case "schedule":
            done = _after_table(text, places, ("events",), f"[[events.schedule]]\n{piece.text}")
        case "shared":
            done = _appended(text, f"[shared.common]\n{piece.text}")
        case "events":
            key, _, value = piece.text.partition(" = ")
            done = _raw(text, places, ("events", key), value)
        case _ if job is None:
            return text, line
        case "steps":
            done = _after_table(text, places, ("jobs", job), f"[[jobs.{job}.steps]]\n{piece.text}")
        case "step":
            steps = _steps(places, job)
            if not steps:
                return text, line
            above = [s for s, place in steps if place.line <= line]
            key, _, value = piece.text.partition(" = ")
            done = _raw(text, places, ("jobs", job, "steps", (above or [steps[-1][0]])[-1], key), value)
        case _:
            key, _, value = piece.text.partition(" = ")
            done = _raw(text, places, ("jobs", job, key), value)
    before, after = text.split("\n"), done.split("\n")
    first = next(
        (i for i, (a, b) in enumerate(zip(before, after, strict=False)) if a != b), min(len(before), len(after))
    )
    while first < len(after) - 1 and not after[first].strip():
        first += 1
    return done, first + 1


def _raw(text: str, places: Places, path: Path, written: str) -> str:
    """Set a key that may be there already: then it is left as it is."""
    if path in places.keys:
        return text
    if path[0] == "events" and ("events",) not in places.keys:
        return _lines_in(text, _first_table(places), f"[events]\n{path[-1]} = {written}\n")
    return _with(text, places, path, written)


def _first_table(places: Places) -> int:
    return min((place.line for q in places.tables if (place := places.of_table(q)) is not None), default=1_000_000)


def _new_job(places: Places) -> str:
    names = {q[1] for q in places.keys if len(q) > 1 and q[0] == "jobs"}
    number = 1
    while f"job-{number}" in names:
        number += 1
    name = f"job-{number}"
    return f'[jobs.{name}]\ntitle = "…"\n\n[[jobs.{name}.steps]]\nname    = "…"\ncommand = "…"'


def _steps(places: Places, job: str) -> list[tuple[int, Place]]:
    found = [
        (int(q[3]), place)
        for q in places.tables
        if len(q) == 4 and q[:3] == ("jobs", job, "steps") and (place := places.of_table(q)) is not None
    ]
    return sorted(found, key=lambda row: row[0])


def _job_at(places: Places, line: int) -> str | None:
    """The job in which a line stands, else the first one."""
    headers = sorted(
        (
            (place.line, str(q[1]))
            for q in places.tables
            if len(q) > 1 and q[0] == "jobs" and (place := places.of_table(q)) is not None
        ),
    )
    above = [job for at, job in headers if at <= line]
    return above[-1] if above else headers[0][1] if headers else None


def _after_table(text: str, places: Places, prefix: Path, block: str) -> str:
    """Put a block behind the last table that belongs to a prefix, else at the end."""
    ends = [
        place.end_line
        for q in places.tables
        if q[: len(prefix)] == prefix and (place := places.of_table(q)) is not None
    ]
    return _lines_in(text, max(ends) + 1, f"\n{block}") if ends else _appended(text, block)


def _appended(text: str, block: str) -> str:
    body = text.rstrip("\n")
    return f"{body}\n\n{block}\n" if body else f"{block}\n"


def _lines_in(text: str, line: int, block: str) -> str:
    lines = text.split("\n")
    at = min(line, len(lines) + 1) - 1
    if at >= len(lines) or (at == len(lines) - 1 and not lines[at]):
        return text.rstrip("\n") + f"\n{block}\n" if text.strip() else f"{block}\n"
    return "\n".join([*lines[:at], *block.split("\n"), *lines[at:]])


def _at(line: int, column: int, text: str) -> Edit:
    return Edit(line, column, line, column, text)


def _span(place: Place, text: str) -> Edit:
    return Edit(place.line, place.column, place.end_line, place.end_column, text)
