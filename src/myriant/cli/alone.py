"""Running cells of a plan on this machine: the runner's own execution, without a server."""

from __future__ import annotations

import os
import subprocess
import tempfile
import threading
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from myriant.api.protocol.leases import given
from myriant.core.coverage.model import FileCoverage
from myriant.core.coverage.paths import Placing
from myriant.core.coverage.read import read_coverage
from myriant.core.diagnosis.expected import expected_and_actual
from myriant.core.diagnosis.explain import explain
from myriant.core.matrix.expand import Cell
from myriant.core.plan.intent import Event, steps_for
from myriant.core.plan.model import CoveragePaths, Job
from myriant.core.plan.origins import origins
from myriant.core.results.model import Outcome
from myriant.core.results.outcome import attempt_outcome
from myriant.core.results.read import read_results
from myriant.core.states import Content
from myriant.core.written import counted, step_called
from myriant.flow.compare.grants import names_wanted
from myriant.flow.dispatch.claims import Lease as Given
from myriant.runner.attempt import Execution
from myriant.runner.attempt.steps import Steps
from myriant.runner.runtimes import Runtime, find_runtimes
from myriant.runner.sandbox import FIRST_USER, find_sandbox
from myriant.wire.attempts import CacheAnswer
from myriant.wire.lease import Lease
from myriant.wire.parcels import ReportHead

Say = Callable[[str], None]
_WELL = (Outcome.PASSED, Outcome.SKIPPED)


@dataclass(slots=True)
class Outcomes:
    """What one cell gave. Tests are by (kind, suite, class, name)."""

    cell: Cell
    state: str = "void"
    reason: str = ""
    tests: dict[tuple[str, str, str, str], Outcome] = field(default_factory=dict)
    messages: dict[tuple[str, str, str, str], tuple[str, str]] = field(default_factory=dict)
    log: bytes = b""
    unexplained: list[str] = field(default_factory=list)  # steps that failed while no test says why
    coverage: list[dict[str, FileCoverage]] = field(default_factory=list)


class _Listener:
    """The counterpart of an attempt that runs here: says what goes on, reads the reports."""

    address = ""

    def __init__(self, cell: Cell, job: Job, say: Say, placing: Placing, *, show_log: bool) -> None:
        self.found, self.job, self.say, self.show_log = Outcomes(cell), job, say, show_log
        self.placing = placing
        self.name = f"{job.id} {cell.key}".strip()
        self._untrusted: list[str] = []
        self._failing: set[int] = set()
        self._again: dict[tuple[str, str, str, str], Outcome] = {}

    def step(self, lease: Lease, told: dict[str, Any]) -> None:
        if told["state"] == "running":
            self.say(f"{self.name}: {told['name']} …")
        elif told["state"] != "passed":
            exit_status = f", exit status {told['exit_status']}" if told.get("exit_status") else ""
            reason = f": {told['reason']}" if told.get("reason") else ""
            self.say(f"{self.name}: {told['name']} {told['state']}{exit_status}{reason}")

    def log(self, lease: Lease, offset: int, data: bytes, at: str) -> int:
        self.found.log = (self.found.log + data)[-(1 << 20) :]
        if self.show_log:
            for line in data.decode("utf-8", "replace").splitlines():
                self.say(f"{self.name} | {line}")
        return offset + len(data)

    def reports(self, lease: Lease, rows: Sequence[tuple[ReportHead, Path]]) -> None:
        for head, file in rows:
            if head.content in (Content.TESTS, Content.RETEST):
                self._report(head, file)
            elif head.content is Content.COVERAGE:
                _, coverage = read_coverage([file.read_bytes()], self.placing)
                if coverage.error is not None:
                    self.say(f"{self.name}: the report {head.path} is not to be trusted: {coverage.error.message}")
                self.found.coverage.append(coverage.files)

    def expected(self, lease: Lease, step: int) -> list[str] | None:
        return None

    def _report(self, head: ReportHead, file: Path) -> None:
        _, results = read_results([file.read_bytes()])
        if results.error is not None and head.content is Content.TESTS:
            self._untrusted.append(f"the report {head.path} is not to be trusted: {results.error.message}")
        for i, outcome in enumerate(results.outcomes):
            test = (head.kind, results.suites[i], results.classes[i], results.names[i])
            if head.content is Content.RETEST:
                self._again[test] = Outcome(outcome)
                continue
            self.found.tests[test] = Outcome(outcome)
            if outcome not in _WELL:
                self._failing.add(head.step)
                detail = results.details.get(i)
                self.found.messages[test] = (detail.message, detail.text) if detail else ("", "")

    def tell(self, lease: Lease, kind: str, content: Any) -> None:
        return None

    def find_cache(self, lease: Lease, name: str, key: dict[str, Any]) -> CacheAnswer:
        return CacheAnswer(said="caches are not used here")

    def fetch_cache(self, lease: Lease, entry: int, target: Path, digest: str) -> None:
        raise ValueError("there is none")

    def save_cache(self, lease: Lease, name: str, key: dict[str, Any], seconds: dict[str, float], archive: Path) -> str:
        return "it is not kept here"

    def fetch_handed(self, lease: Lease, report: int, target: Path) -> None:
        return None

    def finish(self, lease: Lease, told: dict[str, Any]) -> None:
        for test, outcome in self._again.items():
            if outcome is Outcome.PASSED and self.found.tests.get(test) in (Outcome.FAILED, Outcome.ERRORED):
                self.found.tests[test] = Outcome.FLAKY
        untrusted = [*filter(None, [told["void"]]), *told["missing"], *self._untrusted]
        names = [s.name for s in self.job.steps]
        unexplained = [
            f"{step_called(names[p])} failed, and no test says why"
            for p in told["failed_steps"]
            if p not in self._failing
        ]
        failures = sum(o in (Outcome.FAILED, Outcome.ERRORED) for o in self.found.tests.values())
        self.found.unexplained = unexplained
        self.found.state, self.found.reason = attempt_outcome(untrusted, unexplained, failures)


@dataclass(frozen=True, slots=True)
class Setting:
    """Where and as what the cells run: an event as it would be, and how the workspace is filled."""

    project: str
    commit: str
    event: Event
    plan: str
    checkout: Callable[[Path], None]
    paths: CoveragePaths = field(default_factory=CoveragePaths)
    present: frozenset[str] | None = None  # the files that reports may name


def run_cells(
    cells: Sequence[tuple[Job, Cell]],
    setting: Setting,
    *,
    slots: int,
    say: Say,
    show_log: bool,
    steps: type[Steps] = Steps,
    shared: Sequence[Path] = (),
) -> list[Outcomes]:
    """Run cells on this machine, as many side by side as `slots`."""
    runtimes = find_runtimes()
    with tempfile.TemporaryDirectory(prefix="myriant-here-", dir="/var/tmp") as folder:
        base = Path(folder)
        base.chmod(0o711)
        sandbox = find_sandbox(base)
        if sandbox.warning:
            say(sandbox.warning)
        running: list[Execution] = []
        lock = threading.Lock()
        free = list(range(slots))

        def one(numbered: tuple[int, tuple[Job, Cell]]) -> Outcomes:
            number, (job, cell) = numbered
            missing = _unavailable(cell, runtimes) or _lacking(job)
            if missing:
                return Outcomes(cell, "void", missing)
            with lock:
                slot = free.pop()
            work = base / f"cell-{number}"
            placing = Placing(("/workspace", str(work / "workspace")), setting.present, setting.paths)
            listener = _Listener(cell, job, say, placing, show_log=show_log)
            attempt = Execution(
                _lease(number, job, cell, setting),
                listener,
                sandbox,
                runtimes,
                tuple(shared),
                work,
                FIRST_USER + 500 + slot,
                checkout=setting.checkout,
                steps=steps,
            )
            running.append(attempt)
            attempt.run()
            attempt.clean()
            with lock:
                free.append(slot)
            why = f": {listener.found.reason}" if listener.found.reason else ""
            say(f"{listener.name}: {listener.found.state}{why}")
            return listener.found

        try:
            with ThreadPoolExecutor(slots) as pool:
                return list(pool.map(one, enumerate(cells, 1)))
        except KeyboardInterrupt:
            for attempt in running:
                attempt.stop()
            raise


def _unavailable(cell: Cell, runtimes: Sequence[Runtime]) -> str:
    for wish in cell.wants:
        family, _, version = wish.partition(" ")
        if family != "label" and not any(r.family == family and r.meets(version) for r in runtimes):
            known = ", ".join(r.version for r in runtimes if r.family == family) or "none"
            return f"this machine has no {wish}; it has {family} {known}"
    return ""


def _lacking(job: Job) -> str:
    lacking = [name for name in names_wanted(job) if name not in os.environ]
    return f"the secret {lacking[0]} is not set here: export {lacking[0]}=…" if lacking else ""


def _lease(number: int, job: Job, cell: Cell, setting: Setting) -> Lease:
    values = {n: os.environ[n] for n in names_wanted(job)}
    skipped = [why for _, why in steps_for(job, cell.values, setting.event)]
    e = setting.event
    known = {"event": e.kind, "branch": e.branch, "tag": e.tag, "commit": setting.commit}
    told = Given(
        number,
        "here",
        setting.project,
        0,
        0,
        1,
        setting.commit,
        "",
        cell.values,
        list(cell.wants),
        job,
        skipped,
        [],
        values,
        origins(setting.plan, job),
        told={n: v for n, v in known.items() if n in job.all_told},
    )
    return Lease.model_validate(given(told).model_dump(mode="json"))


def said(outcomes: Sequence[Outcomes]) -> list[str]:
    """What the cells gave, in sentences: what failed, where, why."""
    lines: list[str] = []
    states = [o.state for o in outcomes]
    tests = {(o.cell.job, *t) for o in outcomes for t in o.tests}
    failed: dict[tuple[str, ...], list[Outcomes]] = {}
    for o in outcomes:
        for test, outcome in o.tests.items():
            if outcome in (Outcome.FAILED, Outcome.ERRORED):
                failed.setdefault((o.cell.job, *test), []).append(o)
    bad = sum(s != "passed" for s in states)
    lines.append(
        f"{counted(len(tests), 'test')}, {len(failed)} failed; "
        f"{len(states) - bad} of {counted(len(states), 'cell')} passed"
    )
    for (job, kind, suite, klass, name), where in sorted(failed.items(), key=lambda f: -len(f[1])):
        ran = [o for o in outcomes if o.cell.job == job and (kind, suite, klass, name) in o.tests]
        told = explain([o.cell.values for o in ran], [o in where for o in ran])
        rule = told.selector if told.exact else None
        cells = f"only where {rule}" if rule else f"in {len(where)} of {counted(len(ran), 'cell')}"
        message, detail = where[0].messages[(kind, suite, klass, name)]
        lines += ["", f"{klass or suite} › {name}" if klass or suite else name, f"  {job}, {cells}"]
        pair = expected_and_actual(message, detail)
        if pair:
            lines += [f"  expected  {pair.expected}", f"  actual    {pair.actual}"]
        else:
            lines += [f"  {row}" for row in message.strip().splitlines()[:10]]
    for o in outcomes:
        if o.state == "void" or (o.unexplained):
            tail = o.log.decode("utf-8", "replace").strip().splitlines()[-12:]
            lines += [
                "",
                f"{o.cell.job} {o.cell.key}".strip() + f": {o.state}: {o.reason}",
                *(f"  | {row}" for row in tail),
            ]
    return lines


def copy_working_tree(tree: Path, workspace: Path) -> None:
    """A working tree as it stands, with what is not committed, without what git ignores."""
    top = _git(tree, "rev-parse", "--show-toplevel")
    if top is None:
        subprocess.run(["cp", "-a", f"{tree}/.", str(workspace)], check=True)
        return
    subprocess.run(
        ["git", "clone", "--quiet", "--depth=1", "--no-checkout", f"file://{top}", str(workspace / ".clone")],
        check=False,
        capture_output=True,
    )
    if (workspace / ".clone/.git").is_dir():
        (workspace / ".clone/.git").rename(workspace / ".git")
        (workspace / ".clone").rmdir()
    listed = subprocess.run(
        ["git", "-C", top, "ls-files", "-z", "--cached", "--others", "--exclude-standard"],
        capture_output=True,
        check=True,
    ).stdout
    present = b"\0".join(
        name for name in listed.split(b"\0") if name and os.path.lexists(os.fsencode(top) + b"/" + name)
    )
    packing = subprocess.Popen(
        ["tar", "-C", top, "--null", "-T", "-", "-cf", "-"], stdin=subprocess.PIPE, stdout=subprocess.PIPE
    )
    unpacking = subprocess.Popen(["tar", "-C", str(workspace), "--no-same-owner", "-xf", "-"], stdin=packing.stdout)
    assert packing.stdin is not None
    packing.stdin.write(present)
    packing.stdin.close()
    if unpacking.wait() or packing.wait():
        raise OSError(f"the working tree {top} could not be copied")


def _git(folder: Path, *words: str) -> str | None:
    done = subprocess.run(["git", "-C", str(folder), *words], capture_output=True, text=True, check=False)
    return done.stdout.strip() if done.returncode == 0 else None


def here_and_now(folder: Path) -> tuple[str, str]:
    """Commit and branch of a working tree, empty outside git."""
    return _git(folder, "rev-parse", "HEAD") or "", _git(folder, "rev-parse", "--abbrev-ref", "HEAD") or ""


class ShellInstead(Steps):
    """A shell in a cell's workspace, with its settings and companions, instead of its steps."""

    def run(self) -> None:
        lease = self.ground.lease
        print(f"A shell in the workspace of {lease.job}; `exit` ends it and removes everything. Its steps:")
        for step in lease.steps:
            print(f"  {step.name}: {step.command}" + (f"   (skipped: {step.skipped})" if step.skipped else ""))
        words = ["/bin/bash", "--norc", "-i"]
        command, environment, folder = self.ground.walled(words, self.ground.variables.of(), "")
        subprocess.run([w for w in command if w != "--new-session"], env=environment, cwd=folder, check=False)
