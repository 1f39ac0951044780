"""From the bytes of `myriant.toml` to a plan, or to all that is wrong with it."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from math import prod
from typing import Any

from myriant.core.plan import model
from myriant.core.plan.advice import advise
from myriant.core.plan.advice_of_jobs import Surroundings
from myriant.core.plan.model import FILE_NAME, Job, Plan, Step
from myriant.core.plan.patterns import pattern as ready_pattern
from myriant.core.plan.problems import Level, Problem
from myriant.core.plan.read_events import EventsReader
from myriant.core.plan.reporting import quoted
from myriant.core.plan.selectors import Selector
from myriant.core.plan.syntax import values
from myriant.core.plan.table import Found

MOST_PROBLEMS = 1000
_NOTHING = Selector(())


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
    data = values(source, file, problems)
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
        Level.ERROR,
        kept[-1].file,
        kept[-1].line,
        kept[-1].column,
        "",
        f"{left:,} more problems are not listed",
        "mend these first",
    )
    return [*kept, last]


class _PlanReader(EventsReader):
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

    # --- events ---------------------------------------------------------------------------------

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
                row.at("vary"),
                f"{total:,} cells; at most {model.MOST_CELLS:,} a job",
                "take values out, or split the job",
            )
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
                row.at("housekeeping"),
                f"{job_id} is gated and housekeeping, which waits for no verdict",
                "keep one of the two",
            )
        self.check_selector(row, "drop", vary, events=False)
        self.check_selector(row, "advisory", values, events=False)
        self.check_selector(row, "when", values, events=True)
        return job

    def check_proof(self, job: Job, row: Found) -> None:
        if any(step.proves for step in job.steps) and not job.gated:
            at = next((one.at("proves") for one in row.get("steps") or () if "proves" in one), row.path)
            self.problem(
                at,
                f"a step of {job.id} proves that something arrived, but {job.id} is not behind the verdict",
                "write gated = true in the job",
            )

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
                    value=True,
                    edits=self.replace_value((*at, i), quoted(near)) if near else (),
                )
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
            row.get("kind", "unit"),
            row.get("tests", ()),
            row.get("coverage", ()),
            row.get("analysis", ()),
            row.get("attachments", ()),
            row.get("may-be-empty", False),
        )

    # --- selectors ------------------------------------------------------------------------------

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
                        at,
                        f"{job.id} waits for {other}, which is gated: the verdict would wait for itself",
                        f"write gated = true for {job.id} too",
                        value=True,
                    )
        for cycle in _cycles({j.id: [a.job for a in j.after if a.job in by_id and a.job != j.id] for j in jobs}):
            at = next((a for a, other, _ in rows[cycle[0]].get("after", ()) if other == cycle[1 % len(cycle)]), ())
            self.problem(
                at,
                f"these jobs wait for each other: {' after '.join([*cycle, cycle[0]])}",
                "take one of them out of after",
                value=True,
            )

    # --- gate -----------------------------------------------------------------------------------


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
