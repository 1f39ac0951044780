"""A lease: one attempt given to a runner, with all it has to know."""

from __future__ import annotations

from pydantic import BaseModel


class CollectWish(BaseModel):
    kind: str
    tests: list[str]
    coverage: list[str]
    analysis: list[str] = []
    attachments: list[str] = []
    may_be_empty: bool


class RetestWish(BaseModel):
    command: str | list[str]
    each: str


class StepWish(BaseModel):
    name: str
    command: str | list[str]
    collect: list[CollectWish]
    folder: str = ""
    shell: str = "sh"
    env: dict[str, str] = {}
    timeout: float | None = None
    always: bool = False
    may_fail: bool = False
    network: bool = True
    skipped: str = ""  # why it does not run in this cell
    secrets: list[str] = []  # names; the values stand in the lease
    retest: RetestWish | None = None


class CacheWish(BaseModel):
    name: str
    keep: list[str]
    renew_on: list[str]


class ReadyWish(BaseModel):
    within: float
    tcp: bool = False
    http: str | None = None
    line: str | None = None
    command: str | list[str] | None = None


class CompanionWish(BaseModel):
    name: str
    command: str | list[str]
    ready: ReadyWish
    folder: str = ""
    env: dict[str, str] = {}
    port: int | None = None


class LimitsWish(BaseModel):
    """What an attempt may take; None: the runner's own limit. Memory, disk and output are bytes."""

    memory: int | None = None
    processes: int | None = None
    disk: int | None = None
    output: int | None = None


class ArtifactWish(BaseModel):
    files: list[str]
    keep: float | None = None  # seconds


class Handed(BaseModel):
    """A file that an earlier job handed over."""

    report: int
    job: str
    key: str  # of its cell, empty when the job has only one
    path: str


class SourceWish(BaseModel):
    full: bool = False
    tags: bool = False
    submodules: bool = False


class SettingsWish(BaseModel):
    file: str
    example: str = ""
    to: str = ""


class Origin(BaseModel):
    """One place that sets a variable; `step` is its position, None when it holds for the whole job."""

    place: str
    value: str
    step: int | None = None


class Lease(BaseModel):
    attempt: int
    token: str
    project: str
    run: int
    number: int
    commit: str
    before: str
    job: str
    values: dict[str, str]
    wants: list[str]
    env: dict[str, str]
    timeout: float
    steps: list[StepWish]
    source: SourceWish = SourceWish()
    settings: SettingsWish | None = None
    artifacts: list[ArtifactWish] = []
    address: str = ""  # of the repository, for submodules beside it
    hand_over: dict[str, str] = {}
    handed: list[Handed] = []
    limits: LimitsWish = LimitsWish()
    describe: list[str] = []
    caches: list[CacheWish] = []
    companions: list[CompanionWish] = []
    secrets: dict[str, str] = {}
    job_secrets: list[str] = []
    retries: int = 0  # how often failed tests are run again
    origins: dict[str, list[Origin]] = {}  # by variable: where the plan sets it, the weakest first
    told: dict[str, str] = {}  # what of the event the job asked to be told
    aside: list[str] = []  # keys (hexadecimal) of tests whose failures hold nothing
    statuses: dict[str, list[int]] = {}  # by step: how it ended before when tests failed
