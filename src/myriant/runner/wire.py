"""What travels between runner and server, as the runner sees it (protocol version 1)."""

from __future__ import annotations

from pydantic import BaseModel

PROTOCOL = 1


class CollectWish(BaseModel):
    kind: str
    tests: list[str]
    coverage: list[str]
    analysis: list[str] = []
    attachments: list[str] = []
    may_be_empty: bool


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


class SettingsWish(BaseModel):
    file: str
    example: str = ""
    to: str = ""


class Lease(BaseModel):
    attempt: int
    token: str
    project: str
    run: int
    number: int
    commit: str
    before: str
    branch: str
    event: str
    tag: str = ""
    job: str
    values: dict[str, str]
    wants: list[str]
    env: dict[str, str]
    timeout: float
    steps: list[StepWish]
    source: SourceWish = SourceWish()
    settings: SettingsWish | None = None
    artifacts: list[ArtifactWish] = []
    hand_over: dict[str, str] = {}
    handed: list[Handed] = []


class Enrolled(BaseModel):
    runner: int
    heartbeat: float
    lease: float
