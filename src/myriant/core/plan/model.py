"""A test plan as plain values."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import date
from enum import StrEnum
from fractions import Fraction
from typing import Literal

from myriant.core.plan.schedule import Times
from myriant.core.plan.selectors import Selector

FILE_NAME = "myriant.toml"
MOST_BYTES = 1024 * 1024
MOST_JOBS = 64
MOST_STEPS = 256
MOST_CELLS = 4096
DEFAULT_TIMEOUT = 20 * 60.0
Command = str | tuple[str, ...]
Level = Literal["block", "warn"]


@dataclass(frozen=True, slots=True)
class Collect:
    kind: str = "unit"
    tests: tuple[str, ...] = ()
    coverage: tuple[str, ...] = ()
    analysis: tuple[str, ...] = ()
    attachments: tuple[str, ...] = ()
    may_be_empty: bool = False


@dataclass(frozen=True, slots=True)
class Retest:
    command: Command
    each: str


@dataclass(frozen=True, slots=True)
class Step:
    name: str
    command: Command
    collect: tuple[Collect, ...] = ()
    folder: str | None = None
    shell: str | None = None
    env: dict[str, str] = field(default_factory=dict)
    secrets: tuple[str, ...] = ()
    when: Selector | None = None
    always: bool = False
    may_fail: bool = False
    timeout: float | None = None
    network: bool | None = None
    retest: Retest | None = None
    proves: tuple[str, ...] = ()  # artifacts whose digests it must print


@dataclass(frozen=True, slots=True)
class After:
    job: str
    even_if_failed: bool = False


@dataclass(frozen=True, slots=True)
class Sample:
    strength: int
    events: tuple[str, ...] = ()  # none: every event


@dataclass(frozen=True, slots=True)
class Retry:
    tests: int = 0
    void: int = 2


@dataclass(frozen=True, slots=True)
class Limits:
    memory: int | None = None
    processes: int | None = None
    disk: int | None = None
    output: int | None = None


@dataclass(frozen=True, slots=True)
class Source:
    history: str = "commit"
    tags: bool = False
    submodules: bool = False


@dataclass(frozen=True, slots=True)
class Settings:
    file: str
    example: str | None = None
    to: str | None = None


@dataclass(frozen=True, slots=True)
class Cache:
    name: str
    keep: tuple[str, ...]
    renew_on: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Ready:
    within: float = 30.0
    tcp: bool = False
    http: str | None = None
    line: str | None = None
    command: Command | None = None


@dataclass(frozen=True, slots=True)
class Companion:
    name: str
    command: Command
    ready: Ready
    folder: str | None = None
    env: dict[str, str] = field(default_factory=dict)
    port: int | None = None


@dataclass(frozen=True, slots=True)
class Artifact:
    files: tuple[str, ...]
    keep: float | None = None
    offer: bool = False  # to jobs of other projects


@dataclass(frozen=True, slots=True)
class Take:
    """Artifacts that a job is given of another project: of its newest clear run, or of its newest clear tag."""

    project: str
    files: tuple[str, ...]
    job: str = ""  # that made them; empty: any
    tag: str = ""  # a glob; empty: of the main branch


@dataclass(frozen=True, slots=True)
class Approval:
    by: tuple[str, ...]
    within: float = 7 * 86400.0


@dataclass(frozen=True, slots=True)
class Expect:
    tag_file: str | None = None
    tag_key: str | None = None
    mentioned_in: str | None = None


@dataclass(frozen=True, slots=True)
class Job:
    id: str
    title: str
    vary: dict[str, tuple[str, ...]]
    runtime: tuple[str, ...]
    drop: Selector
    steps: tuple[Step, ...]
    env: dict[str, str] = field(default_factory=dict)
    timeout: float = DEFAULT_TIMEOUT  # seconds for the whole attempt
    formerly: tuple[str, ...] = ()
    when: Selector | None = None
    touching: tuple[str, ...] = ()
    after: tuple[After, ...] = ()
    pin: dict[str, str] = field(default_factory=dict)
    add: tuple[dict[str, str], ...] = ()
    advisory: Selector | None = None
    sample: Sample | None = None
    at_once: int | None = None
    stop_early: bool = False
    retry: Retry = Retry()
    folder: str | None = None
    shell: str | None = None
    network: bool = True
    limits: Limits = Limits()
    runner: tuple[str, ...] = ()
    source: Source = Source()
    settings: Settings | None = None
    describe: tuple[str, ...] = ()
    cache: tuple[Cache, ...] = ()
    secrets: tuple[str, ...] = ()
    companions: tuple[Companion, ...] = ()
    artifacts: tuple[Artifact, ...] = ()
    hand_over: dict[str, str] = field(default_factory=dict)
    takes: tuple[Take, ...] = ()
    gated: bool = False
    housekeeping: bool = False  # it is gated too: no verdict depends on it, and it waits for none
    approval: Approval | None = None
    expect: Expect | None = None
    supersede: str | None = None  # None: the event's own usage
    told: tuple[str, ...] = ()  # what of the event its steps may see
    line: int = 0  # where the plan declares it

    @property
    def all_told(self) -> tuple[str, ...]:
        """What its steps see of the event: whoever is given history or tags sees the commit too."""
        sees = "commit" in self.told or self.source.history == "full" or self.source.tags
        return (*(t for t in self.told if t != "commit"), *(["commit"] if sees else []))


@dataclass(frozen=True, slots=True)
class Rule:
    """A limit on a measure; `line` is where the plan declares it (0: built in)."""

    name: str
    measure: str
    sign: Literal["at-most", "at-least"]
    limit: Fraction | Literal["baseline"]  # "baseline": what it was there, or the best of so many baselines
    level: Level = "block"
    jobs: tuple[str, ...] = ()
    line: int = 0
    cells: Selector | None = None
    folder: str | None = None
    since: date | None = None
    best_of: int = 1
    after_runs: int = 0  # of the main branch or its own, in which it only warns
    kinds: tuple[str, ...] = ()  # of tests; none: all


@dataclass(frozen=True, slots=True)
class BranchEvent:
    """Pushes to branches, or pull requests into them."""

    branches: tuple[str, ...] = ()  # no pattern: every branch
    touching: tuple[str, ...] = ()
    unless_only: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Schedule:
    name: str
    times: Times
    branch: str | None = None  # None: the project's main branch
    jobs: tuple[str, ...] = ()  # only these, housekeeping too; none: every job that is no housekeeping


@dataclass(frozen=True, slots=True)
class Events:
    """What starts runs; None: that kind of event does not."""

    push: BranchEvent | None = BranchEvent()
    pull_request: BranchEvent | None = BranchEvent()
    tags: tuple[str, ...] | None = None
    schedules: tuple[Schedule, ...] = ()


class BuiltIn(StrEnum):
    """Rules that always stand beside a plan's own."""

    VOID = "void"
    STEPS = "failed-steps"
    NEW = "new-failures"
    VANISHED = "vanished"
    SKIPPED = "newly-skipped"
    LOOSENED = "loosened"


USUAL_LEVELS: Mapping[BuiltIn, Level] = {rule: "warn" if rule is BuiltIn.SKIPPED else "block" for rule in BuiltIn}


@dataclass(frozen=True, slots=True)
class CoveragePaths:
    root: str | None = None
    exclude: tuple[str, ...] = ()
    map: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, slots=True)
class Notify:
    """Who is told what of the project: people by mail, or a receiver whose address is a secret."""

    at: tuple[str, ...]  # held, cleared, released, attention, always
    to: tuple[str, ...] = ()  # addresses
    committers: bool = False
    owners: bool = False
    url_secret: str = ""  # a request, no mail


@dataclass(frozen=True, slots=True)
class Owner:
    """Whose some paths and tests are."""

    of: tuple[str, ...]
    who: tuple[str, ...]  # addresses


@dataclass(frozen=True, slots=True)
class Plan:
    events: Events
    jobs: tuple[Job, ...]
    rules: tuple[Rule, ...]
    coverage: CoveragePaths = CoveragePaths()
    levels: Mapping[BuiltIn, Level] = field(default_factory=dict)  # of built-in rules that the plan names
    notify: tuple[Notify, ...] = ()
    owners: tuple[Owner, ...] = ()

    def level_of(self, rule: BuiltIn) -> Level:
        return self.levels.get(rule, USUAL_LEVELS[rule])

    @property
    def collects_tests(self) -> bool:
        return any(c.tests for job in self.jobs for step in job.steps for c in step.collect)

    def job(self, job_id: str) -> Job:
        return next(job for job in self.jobs if job.id == job_id)

    def find(self, job_id: str) -> Job | None:
        return next((job for job in self.jobs if job.id == job_id), None)
