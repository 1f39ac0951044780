"""From the bytes of `myriant.toml` to a plan, or to all that is wrong with it."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from math import prod
from typing import Any, cast

from myriant.core.plan import model
from myriant.core.plan.advice import Surroundings, advise
from myriant.core.plan.document import deep_key
from myriant.core.plan.keys import EVENT_KEYS, EVENTS, FRACTIONS, MEASURES, MOST_BEST, SHARES
from myriant.core.plan.model import FILE_NAME, Job, Plan, Rule, Step
from myriant.core.plan.patterns import pattern as ready_pattern
from myriant.core.plan.places import Path
from myriant.core.plan.problems import Edit, Level, Problem
from myriant.core.plan.schedule import ScheduleError, from_cron, in_words
from myriant.core.plan.selectors import Condition, Selector
from myriant.core.plan.table import Found, Reader, quoted
from myriant.core.telling.mail import is_address

MOST_PROBLEMS = 1000
_MOST_SYNTAX_ERRORS = 20
_NOTHING = Selector(())
_COMMITTERS = "committers"
_OWNERS = "owners"


@dataclass(frozen=True, slots=True)
class Reading:
    """A plan, when there was no error, and every problem in the order of their places."""

    plan: Plan | None
    problems: tuple[Problem, ...]

    @property
    def errors(self) -> list[Problem]:
        return [p for p in self.problems if p.level is Level.ERROR]


def read_plan(source: bytes, file: str = FILE_NAME, around: Surroundings | None = None) -> Reading:
    """Read and check a plan; never raises for what the file says, never executes anything of it.

    With `around` (what is known of repository, runners and secrets) more can be checked.
    """
    problems: list[Problem] = []
    data = _values(source, file, problems)
    plan = None
    if data is not None:
        reader = _PlanReader(file, source, problems, partial=bool(problems))
        plan = reader.plan(data)
        if not any(p.level is Level.ERROR for p in problems):
            advise(reader, plan, data, around)
    problems = _each_once(problems)
    faulty = any(p.level is Level.ERROR for p in problems)
    return Reading(None if faulty else plan, tuple(problems))


def _each_once(problems: Sequence[Problem]) -> list[Problem]:
    """In the order of their places, errors first where there are too many to list."""
    ordered = sorted(dict.fromkeys(problems), key=lambda p: (p.line, p.column))
    if len(ordered) <= MOST_PROBLEMS:
        return ordered
    kept = sorted(sorted(ordered, key=lambda p: p.level)[: MOST_PROBLEMS - 1], key=lambda p: (p.line, p.column))
    left = len(ordered) - len(kept)
    last = Problem(
        Level.ERROR, kept[-1].file, kept[-1].line, kept[-1].column, "", f"{left:,} more problems are not listed",
        "mend these first",
    )  # fmt: skip
    return [*kept, last]


def _values(source: bytes, file: str, problems: list[Problem]) -> dict[str, Any] | None:
    """The document's values. Statements with syntax errors are left out one by one, so that all are found."""

    def fault(line: int, column: int, text: str, message: str, mend: str, edits: tuple[Edit, ...] = ()) -> None:
        problems.append(Problem(Level.ERROR, file, line, column, text, message, mend, edits))

    if len(source) > model.MOST_BYTES:
        fault(1, 1, "", f"the plan has {len(source):,} bytes; at most {model.MOST_BYTES:,} are read", "make it smaller")
        return None
    try:
        text = source.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = source.count(b"\n", 0, error.start) + 1
        column = len(source[source.rfind(b"\n", 0, error.start) + 1 : error.start].decode("utf-8", "replace")) + 1
        shown = repr(source[error.start : error.start + 1])[2:-1]
        fault(line, column, shown, "this byte is not UTF-8", "save it as UTF-8")
        return None
    lines = text.replace("\r\n", "\n").split("\n")
    if (deep := deep_key(lines)) is not None:
        fault(deep[0], 1, lines[deep[0] - 1].strip()[:200], f"a key of {deep[1]:,} parts", "nest at most a few levels")
        return None
    for _ in range(_MOST_SYNTAX_ERRORS):
        try:
            return tomllib.loads("\n".join(lines))
        except tomllib.TOMLDecodeError as error:
            found = re.search(r"\(at line (\d+), column (\d+)\)", str(error))
            line, column = (int(found[1]), int(found[2])) if found else (len(lines), len(lines[-1]) + 1)
            reason = str(error).split(" (at ")[0]
            begin, end = _statement(lines, min(line, len(lines)))
            shown = lines[min(line, len(lines)) - 1].strip()[:200]
            mend, edits = _toml_mend(reason, lines, begin, min(line, len(lines)))
            fault(line, column, shown, f"not valid TOML: {reason[:1].lower()}{reason[1:]}", mend, edits)
            for i in range(begin - 1, end):
                lines[i] = ""
        except RecursionError:
            fault(1, 1, "", "the values are nested too deeply", "nest at most a few levels")
            return None
        except ValueError as error:  # a number of thousands of digits
            fault(1, 1, "", f"a value cannot be read: {str(error)[:200]}", "write numbers of a few digits")
            return None
    return None


def _statement(lines: Sequence[str], line: int) -> tuple[int, int]:
    """First and last line of the statement in which an error was found at `line`."""
    begin = line
    start = re.compile(r"\s*(\[|[A-Za-z0-9_\"'.-]+\s*[=:])")
    while begin > 1 and not (start.match(lines[begin - 1]) and lines[begin - 1].strip()):
        begin -= 1
    return begin, max(begin, line)


def _toml_mend(reason: str, lines: Sequence[str], begin: int, line: int) -> tuple[str, tuple[Edit, ...]]:
    bare = re.match(r"(\s*[A-Za-z0-9_.-]+\s*=\s*)([^\s\"'\[{#][^#\"]*?)\s*(#.*)?$", lines[line - 1])
    if "Invalid value" in reason and bare:
        start = len(bare[1]) + 1
        new = quoted(bare[2].strip())
        return f"quote it: {new}", (Edit(line, start, line, start + len(bare[2]), new),)
    colon = re.match(r"(\s*[A-Za-z0-9_-]+)\s*:\s*(?=\S)", lines[line - 1])
    if colon and "=" in reason:
        return "write = instead of :", (Edit(line, len(colon[1]) + 1, line, len(colon[0]) + 1, " = "),)
    for sign, mend in (
        ("overwrite", "remove or rename one of the two"),
        ("twice", "write this table once"),
        ("declare", "write this table once"),
        ("mutate", "write all of this table in one place"),
        ("Invalid value", 'quote texts: key = "value"'),
        ("Unescaped", "write a backslash as \\\\ or use 'single quotes'"),
        ("Illegal character", "close the text with its quote on the same line"),
        ("Unclosed", "close the bracket that was opened"),
        ("=", 'write key = "value"'),
    ):
        if sign in reason:
            return mend, ()
    return "correct this place; everything before it was understood", ()


_NOT_BY_KIND = ("tests.vanished", "tests.removed", "tests.newly-skipped")  # they are compared by job


class _PlanReader(Reader):
    """Builds the plan from typed tables, and notes what is wrong between keys of one table."""

    def plan(self, data: dict[str, Any]) -> Plan:
        top = self.table("plan", (), data)
        defaults: Found = top.get("defaults") or Found(("defaults",))
        shared = {name: self.shared(found) for name, found in (top.get("shared") or {}).items()}
        named: dict[str, Found] = top.get("jobs") or {}
        if isinstance(data.get("jobs"), dict) and not data["jobs"]:
            self.problem(("jobs",), "the plan has no job", "write [jobs.unit] with [[jobs.unit.steps]]", missing=True)
        if len(named) > model.MOST_JOBS:
            self.problem(("jobs",), f"{len(named)} jobs; at most {model.MOST_JOBS}", "split the plan")
        jobs = [self.job(name, found, defaults, shared) for name, found in list(named.items())[: model.MOST_JOBS]]
        self.check_after(jobs, named)
        self.check_scheduled(top.get("events"), named)
        gate = top.get("gate") or {}
        rules = tuple(r for row in gate.get("rules") or () if (r := self.rule(row, set(named))))
        levels = {rule: gate[rule] for rule in model.BuiltIn if rule in gate}
        coverage = top.get("coverage") or {}
        maps = tuple((m["from"], m["to"]) for m in coverage.get("map") or () if len(m) == 2)
        paths = model.CoveragePaths(coverage.get("root"), coverage.get("exclude", ()), maps)
        told = tuple(self.notify(top.get("notify")))
        owners = tuple(self.owners(top.get("notify")))
        return Plan(self.events(top.get("events")), tuple(jobs), rules, paths, levels, told, owners)

    def check_scheduled(self, events: Found | None, jobs: Mapping[str, Found]) -> None:
        for row in (events.get("schedule") if events is not None else None) or ():
            for i, job in enumerate(row.get("jobs", ())):
                if job not in jobs:
                    message = f'there is no job "{job[:80]}"'
                    self.unknown_value((*row.at("jobs"), i), job, jobs, message, known_as="jobs of this plan")

    def owners(self, found: Found | None) -> Iterator[model.Owner]:
        for row in (found.get("owner") if found is not None else None) or ():
            for i, who in enumerate(row.get("who", ())):
                if not is_address(who):
                    mend = 'write an address like "ada@tidewater.example"'
                    self.problem((*row.at("who"), i), f"{who[:80]!r} is no address for mail", mend, value=True)
            if "of" in row and "who" in row:
                yield model.Owner(tuple(row["of"]), tuple(w for w in row["who"] if is_address(w)))

    def notify(self, found: Found | None) -> Iterator[model.Notify]:
        mail = found.get("mail") if found is not None else None
        if mail is not None and "to" in mail and "at" in mail:
            for i, to in enumerate(mail["to"]):
                if to not in (_COMMITTERS, _OWNERS) and not is_address(to):
                    mend = 'write "committers", "owners", or an address like "ada@tidewater.example"'
                    self.problem((*mail.at("to"), i), f"{to[:80]!r} is no address for mail", mend, value=True)
            named = tuple(t for t in mail["to"] if t not in (_COMMITTERS, _OWNERS) and is_address(t))
            yield model.Notify(mail["at"], named, _COMMITTERS in mail["to"], _OWNERS in mail["to"])
        for row in (found.get("webhook") if found is not None else None) or ():
            if "url-secret" in row and "at" in row:
                if re.fullmatch(r"[A-Z][A-Z0-9_]*", row["url-secret"]):
                    yield model.Notify(row["at"], url_secret=row["url-secret"])
                else:
                    mend = "write a secret's name in capital letters: CHAT_HOOK"
                    self.problem(row.at("url-secret"), f"{row['url-secret'][:80]!r} names no secret", mend, value=True)

    # --- events ---------------------------------------------------------------------------------

    def events(self, found: Found | None) -> model.Events:
        if found is None:
            return model.Events()
        push, pull, tag = found.get("push"), found.get("pull-request"), found.get("tag")
        for row, key in ((push, "branches"), (pull, "into"), (tag, "names")):
            for i, pattern in enumerate(row.get(key, ()) if row is not None else ()):
                assert row is not None
                if re.match(r"refs/(heads|tags)/", pattern):
                    plain = re.sub(r"^refs/(heads|tags)/", "", pattern)
                    at = (*row.path, key, i)
                    self.problem(
                        at, f'"{pattern[:80]}" never fits: names stand without refs/', f'write "{plain[:80]}"',
                        value=True, edits=self.replace_value(at, quoted(plain)),
                    )  # fmt: skip
        schedules = []
        names: set[str] = set()
        for row in found.get("schedule") or ():
            if row.get("name") in names:
                self.problem(row.at("name"), f'two schedules are named "{row["name"]}"', "rename one", value=True)
            names.add(row.get("name", ""))
            schedule = self.schedule(row)
            if schedule is not None:
                schedules.append(schedule)
        return model.Events(
            push=_branches(push, "branches"), pull_request=_branches(pull, "into"),
            tags=None if tag is None else tag.get("names", ()), schedules=tuple(schedules),
        )  # fmt: skip

    def schedule(self, row: Found) -> model.Schedule | None:
        if "cron" in row and ("every" in row or "at" in row):
            self.problem(row.path, "this schedule has cron beside every or at", "keep one of the two")
            return None
        if "cron" not in row and "every" not in row:
            self.problem(row.path, "this schedule says no time", 'write every = "day" and at = "02:20"', missing=True)
            return None
        zone = row.get("zone", "UTC")
        try:
            times = from_cron(row["cron"], zone) if "cron" in row else in_words(row["every"], row.get("at"), zone)
        except ScheduleError as error:
            at = row.at("cron" if "cron" in row else "at")
            new = re.fullmatch(r'write ("[0-9:]+")', error.mend)
            edits = self.replace_value(at, new[1]) if new else ()
            self.problem(at, str(error), error.mend, value=True, edits=edits)
            return None
        return model.Schedule(row["name"], times, row.get("branch"), row.get("jobs", ())) if "name" in row else None

    # --- jobs -----------------------------------------------------------------------------------

    def shared(self, found: Found) -> list[Step]:
        steps = []
        for row in found.get("steps") or ():
            if "shared" in row:
                self.problem(row.at("shared"), "shared steps cannot name shared steps", "write the command here")
            else:
                steps.append(self.step(row, None))
        return steps

    def job(self, job_id: str, own: Found, defaults: Found, shared: Mapping[str, list[Step]]) -> Job:
        row = _merged(own, defaults)
        vary: dict[str, tuple[str, ...]] = dict(row.get("vary") or {})
        if (total := prod(len(v) for v in vary.values())) > model.MOST_CELLS:
            self.problem(
                row.at("vary"), f"{total:,} cells; at most {model.MOST_CELLS:,} a job",
                "take values out, or split the job",
            )  # fmt: skip
            vary = {}
        pin: dict[str, str] = dict(row.get("pin") or {})
        for key in set(pin) & set(vary):
            self.problem((*row.at("pin"), key), f"{key} is varied and pinned", "keep one of the two")
        settings = row.get("settings")
        approval, expect, sample = row.get("approval"), row.get("expect") or {}, row.get("sample")
        tag = expect.get("tag-equals") or {}
        job = Job(
            id=job_id,
            line=self.places.of_key(own.path).line,
            title=row.get("title") or job_id,
            vary=vary,
            runtime=tuple(self.runtimes(row, vary, pin)),
            drop=row.get("drop") or _NOTHING,
            steps=tuple(self.steps(row, vary, pin, shared)),
            env=row.get("env") or {},
            timeout=row.get("timeout") or model.DEFAULT_TIMEOUT,
            formerly=row.get("formerly", ()),
            when=row.get("when"),
            touching=row.get("touching", ()),
            after=tuple(model.After(job, even) for _, job, even in row.get("after", ())),
            pin=pin,
            add=tuple(self.added(row, vary)),
            advisory=row.get("advisory"),
            sample=model.Sample(sample["strength"], sample.get("events", ()))
            if sample and "strength" in sample
            else None,
            at_once=row.get("at-once"),
            stop_early=row.get("stop-early", False),
            retry=model.Retry(**(row.get("retry") or {})),
            folder=row.get("folder"),
            shell=row.get("shell"),
            network=row.get("network", True),
            limits=model.Limits(**(row.get("limits") or {})),
            runner=row.get("runner", ()),
            source=model.Source(**(row.get("source") or {})),
            settings=model.Settings(settings["file"], settings.get("example"), settings.get("to"))
            if settings and "file" in settings
            else None,
            describe=row.get("describe", ()),
            cache=tuple(
                model.Cache(c["name"], c["keep"], c["renew-on"]) for c in row.get("cache") or () if len(c) == 3
            ),
            secrets=tuple(self.variables(row)),
            companions=tuple(
                c for name, one in (row.get("companions") or {}).items() if (c := self.companion(name, one))
            ),
            artifacts=tuple(
                model.Artifact(a["files"], a.get("keep"), a.get("offer", False))
                for a in row.get("artifacts") or ()
                if "files" in a
            ),
            hand_over=row.get("hand-over") or {},
            takes=tuple(
                model.Take(t["project"], t["files"], t.get("job", ""), t.get("tag", ""))
                for t in row.get("takes") or ()
                if "project" in t and "files" in t
            ),
            gated=row.get("gated", False) or row.get("housekeeping", False),
            housekeeping=row.get("housekeeping", False),
            approval=model.Approval(approval["by"], approval.get("within", model.Approval(()).within))
            if approval and "by" in approval
            else None,
            expect=model.Expect(tag.get("file"), tag.get("key"), expect.get("mentioned-in")) if expect else None,
            supersede=row.get("supersede"),
            told=row.get("told", ()),
        )
        values = {**vary, **{k: (v,) for k, v in pin.items()}}
        for extra in job.add:
            values |= {k: (*values.get(k, ()), v) for k, v in extra.items()}
        self.check_proof(job, row)
        if row.get("gated") and row.get("housekeeping"):
            self.problem(
                row.at("housekeeping"), f"{job_id} is gated and housekeeping, which waits for no verdict",
                "keep one of the two",
            )  # fmt: skip
        self.check_selector(row, "drop", vary, events=False)
        self.check_selector(row, "advisory", values, events=False)
        self.check_selector(row, "when", values, events=True)
        return job

    def check_proof(self, job: Job, row: Found) -> None:
        if any(step.proves for step in job.steps) and not job.gated:
            at = next((one.at("proves") for one in row.get("steps") or () if "proves" in one), row.path)
            self.problem(
                at, f"a step of {job.id} proves that something arrived, but {job.id} is not behind the verdict",
                "write gated = true in the job",
            )  # fmt: skip

    def runtimes(self, row: Found, vary: Mapping[str, Sequence[str]], pin: Mapping[str, str]) -> Iterator[str]:
        named: tuple[str, ...] = row.get("runtime", ())
        if "runtime" not in row and len(pin) and not vary:
            yield from pin
            return
        at = row.at("runtime")
        for i, family in enumerate(named):
            if family not in vary and family not in pin:
                if "vary" in row and not vary and not pin:
                    continue  # told already what is wrong with vary
                near = self.nearest(family, [*vary, *pin])
                self.problem(
                    (*at, i),
                    f'runtime names "{family[:80]}", which is no dimension of this job',
                    f"did you mean {near}?" if near else f'add it to vary: vary = {{ {family[:80]} = ["…"] }}',
                    value=True, edits=self.replace_value((*at, i), quoted(near)) if near else (),
                )  # fmt: skip
                continue
            for j, value in enumerate(vary.get(family, ())):
                self.version((*row.at("vary"), family, j), family, value)
            yield family
        for family in pin:
            if family not in named:
                yield family

    def added(self, row: Found, vary: Mapping[str, Sequence[str]]) -> Iterator[dict[str, str]]:
        for i, extra in enumerate(row.get("add", ())):
            at = (*row.at("add"), i)
            lacking = [d for d in vary if d not in extra]
            if lacking:
                self.problem(at, f"this cell names no {', '.join(lacking)}", "give every dimension a value")
            for key in extra:
                if key not in vary:
                    near = self.nearest(key, vary)
                    mend = f"did you mean {near}?" if near else f"dimensions here: {', '.join(vary) or 'none'}"
                    edits = self.replace_key((*at, key), near) if near else ()
                    self.problem((*at, key), f'"{key[:80]}" is no dimension of this job', mend, edits=edits)
            if not lacking and set(extra) <= set(vary):
                yield {d: extra[d] for d in vary}

    def variables(self, row: Found) -> Iterator[str]:
        for i, name in enumerate(row.get("secrets", ())):
            if re.fullmatch(r"[A-Za-z_][A-Za-z0-9_]*", name):
                yield name
            else:
                mend = "write the name of a variable: TIDE_API_KEY"
                self.problem((*row.at("secrets"), i), f"{name[:80]!r} cannot name a secret", mend, value=True)

    def companion(self, name: str, row: Found) -> model.Companion | None:
        ready = row.get("ready")
        if ready is None or "command" not in row:
            return None
        ways = [k for k in ("tcp", "http", "line", "command") if ready.get(k)]
        if len(ways) != 1:
            mend = "write one of tcp, http, line and command"
            self.problem(ready.path, f"ready says {'no way' if not ways else ' and '.join(ways)}", mend)
        if "port" not in row and set(ways) & {"tcp", "http"}:
            self.problem(row.path, f"ready by {ways[0]} takes a port", "write port = 5432")
        if ready.get("line"):
            try:
                ready_pattern(ready["line"])
            except ValueError as error:
                mend = "write a pattern that its output holds: listening on port"
                self.problem(ready.at("line"), f"{ready['line'][:80]!r} is no pattern: {error}", mend, value=True)
        how = model.Ready(
            ready.get("within", 30.0),
            ready.get("tcp", False),
            ready.get("http"),
            ready.get("line"),
            ready.get("command"),
        )
        return model.Companion(name, row["command"], how, row.get("folder"), row.get("env") or {}, row.get("port"))

    # --- steps ----------------------------------------------------------------------------------

    def steps(
        self, row: Found, vary: Mapping[str, Sequence[str]], pin: Mapping[str, str], shared: Mapping[str, list[Step]]
    ) -> Iterator[Step]:
        rows: list[Found] = row.get("steps") or []
        if not rows and "steps" in row:
            self.problem(row.at("steps"), f"job {row.path[1]} has no step", f"write [[jobs.{row.path[1]}.steps]]")
        values = {**vary, **{k: (v,) for k, v in pin.items()}}
        for extra in row.get("add", ()):
            values |= {k: (*values.get(k, ()), v) for k, v in extra.items()}
        count = 0
        for one in rows:
            self.check_selector(one, "when", values, events=True)
            made = self.shared_steps(one, shared) if "shared" in one else [self.step(one, count + 1)]
            count += len(made)
            if count > model.MOST_STEPS:
                self.problem(
                    row.at("steps"), f"more than {model.MOST_STEPS} steps", "put commands into a script", missing=True
                )
                return
            yield from made

    def shared_steps(self, row: Found, shared: Mapping[str, list[Step]]) -> list[Step]:
        for key in set(row) - {"shared", "when"}:
            self.problem(row.at(key), f"a step that is shared takes no {key}", "write it at the shared steps")
        name = row["shared"]
        if name not in shared:
            message = f'there are no shared steps "{name[:80]}"'
            self.unknown_value(row.at("shared"), name, shared, message, known_as="shared steps of this plan")
            return []
        if "when" not in row:
            return shared[name]
        return [_with(step, when=row["when"]) for step in shared[name]]

    def step(self, row: Found, number: int | None) -> Step:
        if "command" not in row and "shared" not in row and not self._has(row, "command"):
            title = row.get("name", f"step {number}" if number else "")[:80]
            self.problem(row.path, f'step "{title}" has no command', 'write command = "…"', missing=True)
        shell = row.get("shell")
        if shell and isinstance(row.get("command"), tuple):
            self.problem(row.at("shell"), "a command that is a list is run without a shell", "leave shell out")
        again = row.get("retest")
        return Step(
            name=row.get("name", f"step {number}" if number else "shared step")[:200],
            command=row.get("command") or "true",
            collect=tuple(self.collect(c) for c in row.get("collect") or ()),
            folder=row.get("folder"),
            shell=shell,
            env=row.get("env") or {},
            secrets=tuple(self.variables(row)),
            when=row.get("when"),
            always=row.get("always", False),
            may_fail=row.get("may-fail", False),
            timeout=row.get("timeout"),
            network=row.get("network"),
            retest=self.retest(again) if again is not None else None,
            proves=row.get("proves", ()),
        )

    def _has(self, row: Found, key: str) -> bool:
        """Whether a key is written, with whatever value."""
        return (*row.path, key) in self.places.keys

    def retest(self, row: Found) -> model.Retest:
        each = row.get("each", "{name}")
        fields = set(re.findall(r"\{([^{}]*)\}", each))
        if not fields or fields - {"file", "class", "name", "suite"}:
            mend = 'write it with {file}, {class}, {suite} or {name}: "{file}::{name}"'
            self.problem(row.at("each"), f'"{each[:80]}" does not say how a test is written', mend, value=True)
        return model.Retest(row.get("command") or "", each)

    def collect(self, row: Found) -> model.Collect:
        if not any(self._has(row, key) for key in ("tests", "coverage", "analysis", "attachments")):
            self.problem(row.path, "this collect collects nothing", 'write tests = ["out/unit.xml"]', missing=True)
        return model.Collect(
            row.get("kind", "unit"), row.get("tests", ()), row.get("coverage", ()), row.get("analysis", ()),
            row.get("attachments", ()), row.get("may-be-empty", False),
        )  # fmt: skip

    # --- selectors ------------------------------------------------------------------------------

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
                        (*where, word), f"this never holds: only the event {kind} has {word}",
                        f'write event = "{kind}", or leave {word} out',
                    )  # fmt: skip

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
                value=True, edits=self.replace_value(at, quoted(near)) if near and len(c.tests) == 1 else (),
            )  # fmt: skip

    # --- between jobs ---------------------------------------------------------------------------

    def check_after(self, jobs: Sequence[Job], rows: Mapping[str, Found]) -> None:
        by_id = {job.id: job for job in jobs}
        for job in jobs:
            for at, other, _ in rows[job.id].get("after", ()):
                if other == job.id:
                    self.problem(at, f"job {job.id} waits for itself", "take it out", value=True)
                elif other not in by_id:
                    message = f'there is no job "{other[:80]}"'
                    self.unknown_value(at, other, by_id, message, known_as="jobs of this plan")
                elif by_id[other].gated and not job.gated:
                    self.problem(
                        at, f"{job.id} waits for {other}, which is gated: the verdict would wait for itself",
                        f"write gated = true for {job.id} too", value=True,
                    )  # fmt: skip
        for cycle in _cycles({j.id: [a.job for a in j.after if a.job in by_id and a.job != j.id] for j in jobs}):
            at = next((a for a, other, _ in rows[cycle[0]].get("after", ()) if other == cycle[1 % len(cycle)]), ())
            self.problem(
                at, f"these jobs wait for each other: {' after '.join([*cycle, cycle[0]])}",
                "take one of them out of after", value=True,
            )  # fmt: skip

    # --- gate -----------------------------------------------------------------------------------

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
            name=row.get("name") or f"{measure} {sign} {row[sign]}", measure=measure, sign=cast(Any, sign),
            limit="baseline" if isinstance(limit, str) else limit, best_of=best,
            level=row.get("level", "block"), jobs=row.get("jobs", ()), line=self.places.of_key(row.path).line,
            cells=row.get("cells"), folder=row.get("folder"), since=row.get("since"),
            after_runs=row.get("after-runs", 0), kinds=tuple(row.get("kinds", ())),
        )  # fmt: skip

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
            self.problem(at, f"at most {MOST_BEST} baselines are looked at", f'write "best of {MOST_BEST}"', value=True,
                         edits=self.replace_value(at, f'"best of {MOST_BEST}"'))  # fmt: skip
        else:
            return True
        return False


def _branches(row: Found | None, key: str) -> model.BranchEvent | None:
    if row is None:
        return None
    return model.BranchEvent(row.get(key, ()), row.get("touching", ()), row.get("unless-only", ()))


def _merged(own: Found, defaults: Found) -> Found:
    """A job's keys over the defaults: tables by key, everything else replaced."""
    row = Found(own.path)
    for source in (defaults, own):
        for key, value in source.items():
            at = source.at(key)
            if isinstance(value, dict) and isinstance(row.get(key), dict):
                value = {**row[key], **value}
            row[key], row.origins[key] = value, at
    return row


def _with(step: Step, **changes: Any) -> Step:
    return Step(**{**{f: getattr(step, f) for f in Step.__dataclass_fields__}, **changes})


def _cycles(waits: Mapping[str, Sequence[str]]) -> list[list[str]]:
    """One cycle for each group of jobs that wait for each other."""
    found: list[list[str]] = []
    done: set[str] = set()
    for start in waits:
        path: list[str] = []
        stack = [(start, iter(waits[start]))] if start not in done else []
        path += [start] if stack else []
        while stack:
            for other in stack[-1][1]:
                if other in path:
                    found.append(path[path.index(other) :])
                elif other not in done:
                    path.append(other)
                    stack.append((other, iter(waits[other])))
                    break
            else:
                done.add(path.pop())
                stack.pop()
    return found
