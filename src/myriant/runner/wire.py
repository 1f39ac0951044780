"""What travels between runner and server, as the runner sees it (protocol version 1)."""

from __future__ import annotations

from pydantic import BaseModel

PROTOCOL = 1


class CollectWish(BaseModel):
    kind: str
    tests: list[str]
    coverage: list[str]
    may_be_empty: bool


class StepWish(BaseModel):
    name: str
    command: str | list[str]
    collect: list[CollectWish]


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
    job: str
    values: dict[str, str]
    wants: list[str]
    env: dict[str, str]
    timeout: float
    steps: list[StepWish]


class Enrolled(BaseModel):
    runner: int
    heartbeat: float
    lease: float
