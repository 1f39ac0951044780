"""What a runner says of itself, and how it asks for work."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, Field

from myriant.wire.limits import MOST_SLOTS

RUNNER_NAME = r"^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$"  # of a runner that has a token of its own


class Runtime(BaseModel):
    family: str = Field(pattern=r"^[a-z][a-z0-9-]*$", max_length=60)
    version: str = Field(pattern=r"^\d+(\.\d+)*$", max_length=60)
    path: str = Field(max_length=4000)
    system: bool = False


class Enrolment(BaseModel):
    protocol: int
    name: str = Field(min_length=1, max_length=200)
    slots: int = Field(ge=1, le=MOST_SLOTS)
    runtimes: list[Runtime] = Field(max_length=1000)
    isolation: str = Field(max_length=200)
    labels: list[Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9._-]*$", max_length=60)]] = Field([], max_length=100)
    price: float = Field(0.0, ge=0)
    machine: dict[str, str] = Field({}, max_length=50)
    version: str = Field(max_length=60)
    boot: str = Field(max_length=60)


class Enrolled(BaseModel):
    runner: int
    heartbeat: float
    lease: float


class Claim(BaseModel):
    boot: str = Field(max_length=60)
    free: int = Field(ge=1, le=MOST_SLOTS)
    holding: list[int] = Field([], max_length=MOST_SLOTS)
    wait: float = Field(20, ge=0, le=60)


class Heartbeat(BaseModel):
    attempts: dict[int, str] = Field(max_length=MOST_SLOTS)


class Lost(BaseModel):
    lost: list[int]
