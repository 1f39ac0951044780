"""Advice about single jobs: their cells, versions, reports, retests."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from myriant.core.matrix.expand import expand
from myriant.core.plan.model import Collect, Job, Step
from myriant.core.plan.places import Path
from myriant.core.plan.problems import nearest
from myriant.core.plan.reporting import quoted
from myriant.core.plan.table import Reader
from myriant.core.plan.versions import version_key
from myriant.core.written import step_called

_WRITTEN_FILE = re.compile(r"[\w./-]*\.(?:xml|sarif|info|lcov|tap)\b")


@dataclass(frozen=True, slots=True)
class Surroundings:
    """What is known around a plan; None: not known."""

    offers: frozenset[str] | None = None  # runtime wishes and labels that runners meet: "python 3.12", "label linux"
    secrets: frozenset[str] | None = None  # names of stored secrets
    files: tuple[str, ...] | None = None  # paths in the repository
    mentions: Callable[[str], bool] | None = None  # whether a word stands in some file of the repository
    branches: frozenset[str] | None = None
    read: Callable[[str], str] | None = None  # a file of the repository, empty when it has none


def short(text: str) -> str:
    """A text with its words cut to a length that patterns look through quickly, whatever they hold."""
    if len(text) < 400:
        return text
    return " ".join(word[:400] for word in text[:60_000].split())


def cells(reader: Reader, job: Job, around: Surroundings) -> None:
    cells = expand(job)
    at = ("jobs", job.id)
    if not cells:
        mend = "drop less"
        reader.problem((*at, "drop"), f"no cell of {job.id} is left: every combination is dropped", mend, value=True)
    elif all(c.advisory for c in cells):
        reader.warn(
            (*at, "advisory"),
            f"every cell of {job.id} is advisory, so it can never hold a run",
            "name fewer cells",
            value=True,
        )
    known = {c.key for c in cells if not c.added} if job.add else set()
    for i, values in enumerate(job.add):
        if ",".join(f"{k}={v}" for k, v in values.items()) in known:
            reader.warn((*at, "add", i), "this cell is there without add", "take it out", value=True)
    if job.at_once is not None and job.at_once >= len(cells) > 0 and len(cells) > 1:
        reader.warn(
            (*at, "at-once"),
            f"at-once = {job.at_once} limits nothing: the job has {len(cells)} cells",
            "write a smaller number, or leave it out",
            value=True,
        )


def dimensions(reader: Reader, job: Job, around: Surroundings) -> None:
    text = "\n".join(commands(job.steps))
    selectors = [s for s in (job.drop, job.advisory, job.when, *(s.when for s in job.steps)) if s is not None]
    used = set(job.runtime).union(*(s.keys() for s in selectors))
    for name in job.vary:
        variable = f"MYRIANT_CELL_{name.upper().replace('-', '_')}"
        if name in used or variable in text or variable in "\n".join(_env(job)):
            continue
        if around.mentions is not None and around.mentions(variable):
            continue
        path = ("jobs", job.id, "vary", name)
        offered = around.offers is not None and any(o.startswith(f"{name} ") for o in around.offers)
        if offered or name in _RUNTIMES:
            reader.warn(
                path, f"{name} chooses no runtime: every value would run the same one", f'write runtime = ["{name}"]'
            )
        else:
            where = "here or in the repository" if around.mentions is not None else "here"
            mend = f"read the variable in a command, or take {name} out of vary"
            reader.warn(path, f"nothing uses the dimension {name}: {variable} is mentioned nowhere {where}", mend)


_RUNTIMES = frozenset(
    ["python", "lua", "node", "java", "perl", "php", "ruby", "go", "rust", "dotnet", "gcc", "clang", "c", "cpp"]
)


def _env(job: Job) -> Iterator[str]:
    yield from job.env.values()
    for step in job.steps:
        yield from step.env.values()


def commands(steps: Sequence[Step]) -> Iterator[str]:
    for step in steps:
        yield short(step.command if isinstance(step.command, str) else " ".join(step.command))


def versions(reader: Reader, job: Job, around: Surroundings) -> None:
    if around.offers is None:
        return
    at = ("jobs", job.id)
    wishes: list[tuple[Path, str, str]] = [
        ((*at, "vary", f, i), f, v) for f in job.runtime for i, v in enumerate(job.vary.get(f, ()))
    ]
    wishes += [
        ((*at, "add", i, f), f, values[f])
        for i, values in enumerate(job.add)
        for f in job.runtime
        if f in values and values[f] not in job.vary.get(f, ())
    ]
    wishes += [((*at, "pin", f), f, job.pin[f]) for f in job.runtime if f in job.pin]
    for path, family, version in wishes:
        if f"{family} {version}" in around.offers:
            continue
        offered = sorted({o.partition(" ")[2] for o in around.offers if o.startswith(f"{family} ")}, key=version_key)
        short = [v for v in offered if v.count(".") == 1] or offered
        if offered:
            mend = f"runners offer {', '.join(short)[:200]}; choose one of these, or install {family} {version}"
        else:
            mend = f"no runner offers any {family}: install it on a runner, or start a runner that has it"
        reader.warn(path, f"no runner offers {family} {version}: this cell would wait", mend, value=True)
    for i, label in enumerate(job.runner):
        if f"label {label}" not in around.offers:
            labels = sorted(o.partition(" ")[2] for o in around.offers if o.startswith("label "))
            reader.warn(
                (*at, "runner", i),
                f'no runner has the label "{label}": these cells would wait',
                f"labels of the runners: {', '.join(labels) or 'none'}",
                value=True,
            )


def sample(reader: Reader, job: Job, around: Surroundings) -> None:
    if job.sample is None:
        return
    wide = [d for d, values in job.vary.items() if len(values) > 1]
    if job.sample.strength >= len(wide):
        reader.warn(
            ("jobs", job.id, "sample"),
            f"strength {job.sample.strength} over {len(wide)} dimensions with a choice needs every cell",
            "leave sample out, or lower the strength",
        )


def collects(reader: Reader, job: Job, around: Surroundings) -> None:
    """Collects that no step writes, as far as commands name what they write."""
    named: list[str] = []
    taken: dict[str, str] = {}
    for number, step in enumerate(job.steps):
        named += [p.removeprefix("./") for c in commands([step]) for p in _WRITTEN_FILE.findall(c)]
        for position, collect in enumerate(step.collect):
            for key, i, glob in _globs(collect):
                path: Path = ("jobs", job.id, "steps", number, "collect", position, key, i)
                if path not in reader.places.values:
                    path = ("jobs", job.id, "steps", number, "collect", key, i)
                if any(c in glob for c in "*?["):
                    continue
                before = taken.setdefault(glob, step.name)
                if before != step.name:
                    reader.warn(
                        path,
                        f'"{glob}" is collected after {step_called(before)} already',
                        "collect it once, or write two files",
                        value=True,
                    )
                _written_nowhere(reader, path, glob, named)


def _globs(collect: Collect) -> Iterator[tuple[str, int, str]]:
    for key in ("tests", "coverage", "analysis"):
        for i, glob in enumerate(getattr(collect, key)):
            yield key, i, glob


def _written_nowhere(reader: Reader, path: Path, glob: str, named: Sequence[str]) -> None:
    plain = glob.removeprefix("./")
    if not named or any(n == plain or n.endswith("/" + plain) or plain.endswith("/" + n) for n in named):
        return
    near = nearest(plain, named)
    same_name = next((n for n in named if n.rsplit("/", 1)[-1] == plain.rsplit("/", 1)[-1]), None)
    wanted = same_name or near
    if wanted:
        reader.warn(
            path,
            f"no step writes {glob}, but one writes {wanted}",
            f'did you mean "{wanted}"?',
            value=True,
            edits=reader.replace_value(path, quoted(wanted)),
        )


def repeated(reader: Reader, job: Job, around: Surroundings) -> None:
    commands: dict[Any, str] = {}
    names: dict[str, int] = {}
    for number, step in enumerate(job.steps):
        path = ("jobs", job.id, "steps", number)
        same = (step.command, step.folder, str(step.when))
        if same in commands and step.command != "true":
            reader.warn(
                (*path, "command"),
                f"{step_called(step.name)} repeats the command of {step_called(commands[same])}",
                "take one out, or say in what they differ",
                value=True,
            )
        commands.setdefault(same, step.name)
        if step.name in names:
            reader.warn((*path, "name"), f'two steps are named "{step.name}"', "rename one", value=True)
        names[step.name] = number


def gated(reader: Reader, job: Job, around: Surroundings) -> None:
    at = ("jobs", job.id)
    if job.approval and not job.gated:
        reader.warn(
            (*at, "approval"),
            f"{job.id} waits for an approval, and the verdict with it",
            f"write gated = true for {job.id}",
        )
    if job.settings and job.settings.file == job.settings.to:
        reader.warn((*at, "settings"), "settings are copied onto themselves", "leave to out")


def retests(reader: Reader, job: Job, around: Surroundings) -> None:
    for number, step in enumerate(job.steps):
        if step.retest and not any(c.tests for c in step.collect):
            reader.warn(
                ("jobs", job.id, "steps", number, "retest"),
                f"{step_called(step.name)} collects no tests that could be run again",
                "add collect = { tests = […] }",
            )
