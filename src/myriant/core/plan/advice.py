"""Beyond the form: what is written correctly and yet cannot be meant, or cannot work here."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from math import log2
from typing import Any

from myriant.core.matrix.expand import expand
from myriant.core.plan.globs import matches
from myriant.core.plan.intent import Event, intent
from myriant.core.plan.keys import OF_CHANGE
from myriant.core.plan.model import FILE_NAME, Collect, Job, Plan, Step
from myriant.core.plan.places import Path
from myriant.core.plan.problems import nearest
from myriant.core.plan.table import Reader, quoted
from myriant.core.plan.versions import version_key
from myriant.core.written import step_called

_MACHINE = re.compile(r"(?<![\w$}/.-])(/home/\w+|/Users/\w+|/root/|[A-Z]:[\\/](?!/)|~/)[^\s\"';|&]*")
_SECRET_NAME = re.compile(r"(?i)(pass(word|wd)?|secret|token|api_?key|private_?key|credential)s?$")
_URL_SECRET = re.compile(r"[a-z][a-z0-9+.-]*://[^\s/:@]+:([^\s/@]+)@")
_WRITTEN_FILE = re.compile(r"[\w./-]*\.(?:xml|sarif|info|lcov|tap)\b")
_LEFTOVER = re.compile(r"\b(TODO|FIXME|XXX|CHANGE-?ME|REPLACE-?ME|lorem ipsum)\b|<[a-z][a-z -]{2,30}>", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Surroundings:
    """What is known around a plan; None: not known."""

    offers: frozenset[str] | None = None  # runtime wishes and labels that runners meet: "python 3.12", "label linux"
    secrets: frozenset[str] | None = None  # names of stored secrets
    files: tuple[str, ...] | None = None  # paths in the repository
    mentions: Callable[[str], bool] | None = None  # whether a word stands in some file of the repository
    branches: frozenset[str] | None = None


def advise(reader: Reader, plan: Plan, data: dict[str, Any], around: Surroundings | None) -> None:
    """Note what is doubtful in a plan whose form is right."""
    around = around or Surroundings()
    named = {job for schedule in plan.events.schedules for job in schedule.jobs}
    for job in plan.jobs:
        if job.housekeeping and job.id not in named:
            reader.warn(
                ("jobs", job.id, "housekeeping"), f"no schedule names {job.id}, so that it never runs by itself",
                f'write jobs = ["{job.id}"] in a schedule',
            )  # fmt: skip
        for look in (_cells, _dimensions, _versions, _sample, _collects, _repeated, _gated, _told, _retests):
            look(reader, job, around)
    for look_at_plan in (_copies, _never_started, _reports, _branches, _measures):
        look_at_plan(reader, plan, around)
    for path, text in _texts(data, ()):
        _machine_paths(reader, path, text)
        _secrets(reader, path, text)
        if match := _LEFTOVER.search(text):
            reader.warn(path, f'"{match[0]}" looks like a leftover', "write what is meant, or take it out", value=True)
    _stored_secrets(reader, data, around)
    _missing_files(reader, plan, around)


def _texts(value: Any, path: Path) -> Iterator[tuple[Path, str]]:
    if isinstance(value, str):
        yield path, _short(value)
    elif isinstance(value, dict):
        for key, inner in value.items():
            yield from _texts(inner, (*path, key))
    elif isinstance(value, list):
        for i, inner in enumerate(value):
            yield from _texts(inner, (*path, i))


def _short(text: str) -> str:
    """A text with its words cut to a length that patterns look through quickly, whatever they hold."""
    if len(text) < 400:
        return text
    return " ".join(word[:400] for word in text[:60_000].split())


# --- one job ------------------------------------------------------------------------------------


def _cells(reader: Reader, job: Job, around: Surroundings) -> None:
    cells = expand(job)
    at = ("jobs", job.id)
    if not cells:
        mend = "drop less"
        reader.problem((*at, "drop"), f"no cell of {job.id} is left: every combination is dropped", mend, value=True)
    elif all(c.advisory for c in cells):
        reader.warn(
            (*at, "advisory"), f"every cell of {job.id} is advisory, so it can never hold a run",
            "name fewer cells", value=True,
        )  # fmt: skip
    known = {c.key for c in cells if not c.added} if job.add else set()
    for i, values in enumerate(job.add):
        if ",".join(f"{k}={v}" for k, v in values.items()) in known:
            reader.warn((*at, "add", i), "this cell is there without add", "take it out", value=True)
    if job.at_once is not None and job.at_once >= len(cells) > 0 and len(cells) > 1:
        reader.warn(
            (*at, "at-once"), f"at-once = {job.at_once} limits nothing: the job has {len(cells)} cells",
            "write a smaller number, or leave it out", value=True,
        )  # fmt: skip


def _dimensions(reader: Reader, job: Job, around: Surroundings) -> None:
    text = "\n".join(_commands(job.steps))
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


def _commands(steps: Sequence[Step]) -> Iterator[str]:
    for step in steps:
        yield _short(step.command if isinstance(step.command, str) else " ".join(step.command))


def _versions(reader: Reader, job: Job, around: Surroundings) -> None:
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
                (*at, "runner", i), f'no runner has the label "{label}": these cells would wait',
                f"labels of the runners: {', '.join(labels) or 'none'}", value=True,
            )  # fmt: skip


def _sample(reader: Reader, job: Job, around: Surroundings) -> None:
    if job.sample is None:
        return
    wide = [d for d, values in job.vary.items() if len(values) > 1]
    if job.sample.strength >= len(wide):
        reader.warn(
            ("jobs", job.id, "sample"),
            f"strength {job.sample.strength} over {len(wide)} dimensions with a choice needs every cell",
            "leave sample out, or lower the strength",
        )


def _collects(reader: Reader, job: Job, around: Surroundings) -> None:
    """Collects that no step writes, as far as commands name what they write."""
    named: list[str] = []
    taken: dict[str, str] = {}
    for number, step in enumerate(job.steps):
        named += [p.removeprefix("./") for c in _commands([step]) for p in _WRITTEN_FILE.findall(c)]
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
            path, f"no step writes {glob}, but one writes {wanted}", f'did you mean "{wanted}"?', value=True,
            edits=reader.replace_value(path, quoted(wanted)),
        )  # fmt: skip


def _repeated(reader: Reader, job: Job, around: Surroundings) -> None:
    commands: dict[Any, str] = {}
    names: dict[str, int] = {}
    for number, step in enumerate(job.steps):
        path = ("jobs", job.id, "steps", number)
        same = (step.command, step.folder, str(step.when))
        if same in commands and step.command != "true":
            reader.warn(
                (*path, "command"), f"{step_called(step.name)} repeats the command of {step_called(commands[same])}",
                "take one out, or say in what they differ", value=True,
            )  # fmt: skip
        commands.setdefault(same, step.name)
        if step.name in names:
            reader.warn((*path, "name"), f'two steps are named "{step.name}"', "rename one", value=True)
        names[step.name] = number


def _gated(reader: Reader, job: Job, around: Surroundings) -> None:
    at = ("jobs", job.id)
    if job.approval and not job.gated:
        reader.warn(
            (*at, "approval"),
            f"{job.id} waits for an approval, and the verdict with it",
            f"write gated = true for {job.id}",
        )
    if job.settings and job.settings.file == job.settings.to:
        reader.warn((*at, "settings"), "settings are copied onto themselves", "leave to out")


_OF_EVENT = {
    "EVENT": "event",
    "BRANCH": "branch",
    "BASE_COMMIT": "branch",
    "TAG": "tag",
    "PULL_REQUEST": "pull-request",
}
_TOLD = re.compile(rf"\bMYRIANT_({'|'.join(_OF_EVENT)})\b")


def _told(reader: Reader, job: Job, around: Surroundings) -> None:
    """Commands that mention what of the event their job is not told: they would see nothing there."""
    for number, step in enumerate(job.steps):
        for command in _commands([step]):
            lacking = list(dict.fromkeys(w for m in _TOLD.finditer(command) if (w := _OF_EVENT[m[1]]) not in job.told))
            if not lacking:
                continue
            word = next(m[0] for m in _TOLD.finditer(command) if _OF_EVENT[m[1]] in lacking)
            wanted = f"told = [{', '.join(quoted(w) for w in (*job.told, *lacking))}]"
            path: Path = ("jobs", job.id, "steps", number, "command")
            known = path in reader.places.values
            reader.problem(
                path if known else ("jobs", job.id),
                f"{step_called(step.name)} asks for {word}, and job {job.id} is not told the {' and '.join(lacking)}",
                f"write {wanted} in [jobs.{job.id}]; it then gives no answer for another {lacking[0]}", value=known,
                edits=reader.added_below(("jobs", job.id), wanted) if not job.told else (),
            )  # fmt: skip
            return


def _retests(reader: Reader, job: Job, around: Surroundings) -> None:
    for number, step in enumerate(job.steps):
        if step.retest and not any(c.tests for c in step.collect):
            reader.warn(
                ("jobs", job.id, "steps", number, "retest"),
                f"{step_called(step.name)} collects no tests that could be run again",
                "add collect = { tests = […] }",
            )


# --- the whole plan -----------------------------------------------------------------------------


def _copies(reader: Reader, plan: Plan, around: Surroundings) -> None:
    titles: dict[str, str] = {}
    bodies: dict[Any, str] = {}
    for job in plan.jobs:
        at = ("jobs", job.id)
        if job.title in titles:
            reader.warn(
                (*at, "title"),
                f"{job.id} has the title of {titles[job.title]}: a leftover of copying?",
                "give it its own",
                value=True,
            )
        titles.setdefault(job.title, job.id)
        body = (
            tuple(job.vary.items()),
            tuple((s.command, s.folder, s.collect) for s in job.steps),
            str(job.when),
            str(job.drop),
        )
        if body in bodies:
            mend = "take one out, or say in what they differ"
            reader.warn(at, f"{job.id} does the same as {bodies[body]}: a leftover of copying?", mend)
        bodies.setdefault(body, job.id)
    seen: dict[Any, str] = {}
    for i, rule in enumerate(plan.rules):
        key = (rule.measure, rule.sign, rule.jobs, str(rule.cells), rule.folder, rule.level)
        if key in seen:
            mend = "keep the one that is meant"
            reader.warn(("gate", "rules", i), f"this rule limits what rule {seen[key]!r} limits already", mend)
        seen.setdefault(key, rule.name)


def sample_events(plan: Plan) -> list[Event]:
    """One event of each sort that the plan speaks of."""

    def named(patterns: Sequence[str]) -> list[str]:
        return [re.sub(r"[*?]+", "x", p) for p in patterns] or ["main"]

    found = []
    if plan.events.push is not None:
        found += [Event("push", b) for b in named(plan.events.push.branches)]
    if plan.events.pull_request is not None:
        found += [Event("pull-request", b, source="topic") for b in named(plan.events.pull_request.branches)]
    if plan.events.tags is not None:
        found += [Event("tag", tag=t) for t in (named(plan.events.tags) if plan.events.tags else ["v1"])]
    found += [Event("schedule", s.branch or "main", schedule=s.name) for s in plan.events.schedules]
    return found


def _never_started(reader: Reader, plan: Plan, around: Surroundings) -> None:
    """Jobs that no event starts, and jobs that wait for jobs which their event does not start."""
    if not any(job.when or job.after for job in plan.jobs):
        return
    started: dict[str, list[str]] = {job.id: [] for job in plan.jobs}
    waiting: dict[str, str] = {}
    for event in sample_events(plan):
        for found in intent(_without_samples(plan), event).jobs:
            if found.runs:
                started[found.job.id].append(str(event))
            elif found.reason.startswith("it waits for"):
                waiting.setdefault(found.job.id, f"{found.reason} (at {event})")
    for job in plan.jobs:
        if job.id in waiting:
            reader.warn(
                ("jobs", job.id, "after"), f"job {job.id} never starts at one of its events: {waiting[job.id]}",
                "give both the same when, or take it out of after", value=True,
            )  # fmt: skip
        elif not started[job.id]:
            reader.warn(
                ("jobs", job.id, "when"), f"no event of the plan starts job {job.id}: its when is {job.when}",
                "name an event that the plan has, or add the event to [events]", value=True,
            )  # fmt: skip


def _without_samples(plan: Plan) -> Plan:
    return replace(plan, jobs=tuple(replace(j, sample=None) for j in plan.jobs))


def _reports(reader: Reader, plan: Plan, around: Surroundings) -> None:
    collects = [(j, c) for j in plan.jobs for s in j.steps for c in s.collect]
    if not any(c.tests for _, c in collects):
        reader.warn(
            ("jobs",), "no step collects test results: the verdict is by the steps' ends alone, and says “no tests”",
            'add collect = { tests = ["out/unit.xml"] } to a step',
        )  # fmt: skip
    for i, rule in enumerate(plan.rules):
        wanted = "coverage" if rule.measure.startswith("coverage.") else "tests"
        jobs = set(rule.jobs) or {j.id for j in plan.jobs}
        if not any(j.id in jobs and getattr(c, wanted) for j, c in collects):
            which = f"job {', '.join(sorted(rule.jobs))} collects" if rule.jobs else "the plan collects"
            reader.warn(
                ("gate", "rules", i, "measure"), f"{which} no {wanted}, so {rule.measure} could not be measured",
                f"add {wanted} = […] to a collect, or take the rule out", value=True,
            )  # fmt: skip


def _branches(reader: Reader, plan: Plan, around: Surroundings) -> None:
    for i, schedule in enumerate(plan.events.schedules):
        if around.branches is not None and schedule.branch and schedule.branch not in around.branches:
            near = nearest(schedule.branch, around.branches)
            path = ("events", "schedule", i, "branch")
            reader.warn(
                path,
                f"there is no branch {schedule.branch} now, so {schedule.name} would test nothing",
                f'did you mean "{near}"?' if near else f"branches: {', '.join(sorted(around.branches))[:200]}",
                value=True,
                edits=reader.replace_value(path, quoted(near)) if near else (),
            )


def _measures(reader: Reader, plan: Plan, around: Surroundings) -> None:
    for i, rule in enumerate(plan.rules):
        at = ("gate", "rules", i)
        if rule.cells is not None and (rule.measure.startswith("coverage.") or rule.limit == "baseline"):
            what = f"{rule.measure} within cells" if rule.measure.startswith("coverage.") else "a baseline within cells"
            reader.problem((*at, "cells"), f"{what} is not measured", "leave cells out, or name jobs instead")
        elif rule.cells is not None:
            dimensions = {d for job in plan.jobs for d in (*job.vary, *job.pin)} | {"job"}
            for key in sorted(rule.cells.keys() - dimensions):
                near = nearest(key, dimensions)
                mend = f"did you mean {near}?" if near else f"dimensions of this plan: {', '.join(sorted(dimensions))}"
                reader.problem((*at, "cells"), f'no job of the plan has the dimension "{key[:80]}"', mend)
        if rule.measure in OF_CHANGE and rule.limit == "baseline":
            reader.problem(
                (*at, rule.sign),
                f"{rule.measure} has no baseline: it is about what each change brings itself",
                "write a number",
                value=True,
            )


# --- single texts -------------------------------------------------------------------------------


def _machine_paths(reader: Reader, path: Path, text: str) -> None:
    if match := _MACHINE.search(text):
        reader.warn(
            path,
            f'"{match[0][:80]}" is a path of one machine',
            "write it relative to the workspace, or use a variable",
            value=True,
        )


def _secrets(reader: Reader, path: Path, text: str) -> None:
    why = ""
    if "-----BEGIN " in text and "PRIVATE KEY" in text:
        why = "a private key stands in the open"
    elif (match := _URL_SECRET.search(text)) and not match[1].startswith("$"):
        why = "a password stands in an address"
    elif _SECRET_NAME.search(str(path[-1])) and len(text) >= 6 and "$" not in text and "env" in path:
        why = f"{path[-1]} looks like a secret in the open"
    elif any(_random(word) for word in re.findall(r"[A-Za-z0-9+/_=-]{24,}", text)):
        why = "this looks like a key or token in the open"
    if why:
        reader.warn(path, why, 'store it as a secret and name it: secrets = ["NAME"]', value=True)


def _random(word: str) -> bool:
    """Whether a word is as irregular as a generated key: letters and digits mixed, over 3.8 bits a sign."""
    if not (re.search(r"\d", word) and re.search(r"[a-z]", word) and (re.search(r"[A-Z]", word) or len(word) >= 32)):
        return False
    shares = [word.count(c) / len(word) for c in set(word)]
    return -sum(s * log2(s) for s in shares) > (3.5 if len(word) < 40 else 3.4) and "/" not in word.strip("/")[:-1]


def _stored_secrets(reader: Reader, data: dict[str, Any], around: Surroundings) -> None:
    if around.secrets is None:
        return
    for path, text in _texts(data, ()):
        named = path[-2] == "secrets" if len(path) > 1 else False
        if (named or path[-1] == "url-secret") and text not in around.secrets:
            near = nearest(text, around.secrets)
            reader.warn(
                path, f'the secret "{text[:80]}" is not stored for this project',
                f"did you mean {near}?" if near else "store it in the project's settings", value=True,
                edits=reader.replace_value(path, quoted(near)) if near else (),
            )  # fmt: skip


def _missing_files(reader: Reader, plan: Plan, around: Surroundings) -> None:
    """Folders, scripts and files that the plan names and the repository does not have."""
    if around.files is None:
        return
    files = set(around.files)
    folders = {f.rsplit("/", i)[0] for f in files for i in range(1, f.count("/") + 1)}
    for job in plan.jobs:
        at = ("jobs", job.id)
        named: list[tuple[Path, str | None]] = [((*at, "folder"), job.folder)]
        named += [((*at, "steps", n, "folder"), s.folder) for n, s in enumerate(job.steps)]
        for where, folder in named:
            if folder and folder.strip("./") and folder.strip("/").removeprefix("./") not in folders:
                _absent(reader, where, f"there is no folder {folder} in the repository", folder, folders)
        settings = job.settings
        for key, file in (("file", settings.file), ("example", settings.example)) if settings else ():
            if file and file not in files:
                _absent(reader, (*at, "settings", key), f"there is no file {file} in the repository", file, files)
        for n, step in enumerate(job.steps):
            for command in _commands([step]):
                for script in re.findall(r"(?:^|[;&|]\s*|\bsh\s+|\bbash\s+)\./([\w./-]+)", command):
                    base = (step.folder or job.folder or ".").strip("./")
                    full = f"{base}/{script}" if base else script
                    if full not in files and not any(
                        w in command for w in ("chmod", ">", "make", "gradle", "cmake", "cp ")
                    ):
                        _absent(
                            reader,
                            (*at, "steps", n, "command"),
                            f"there is no script {full} in the repository",
                            full,
                            files,
                            edit=False,
                        )
    for job in plan.jobs:
        for i, glob in enumerate(job.touching):
            if not any(matches(glob, f) for f in files):
                mend = "name files that are there"
                reader.warn(("jobs", job.id, "touching", i), f"no file of the repository fits {glob}", mend, value=True)


def _absent(reader: Reader, path: Path, message: str, name: str, known: set[str], *, edit: bool = True) -> None:
    near = nearest(name, sorted(known))
    mend = f'did you mean "{near}"?' if near else "add it, or name one that is there"
    edits = reader.replace_value(path, quoted(near)) if near and edit else ()
    reader.warn(path, message, mend, value=True, edits=edits)


def misplaced(files: Sequence[str]) -> str:
    """What to tell of a repository whose plan stands under another name or at another place; empty when none does."""
    known = {FILE_NAME, "myriant.tml", "myriant.yml", "myriant.yaml", "myriant.json", "myriant.toml.txt", "myriad.toml"}
    for path in sorted(files, key=lambda p: (p.count("/"), p)):
        name = path.rsplit("/", 1)[-1]
        likely = name.lower().lstrip(".") in known or (
            name.endswith((".toml", ".tml"))
            and nearest(name.lower(), [FILE_NAME]) is not None
            and "myr" in name.lower()
        )
        if path != FILE_NAME and likely:
            return f"there is no {FILE_NAME} at the root of the repository, but {path}: move it to {FILE_NAME}"
    return ""
