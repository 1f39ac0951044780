"""What a runner tells of an attempt."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import BaseModel, Field

from myriant.core.states import State
from myriant.wire.limits import MOST_LISTED, MOST_POSITION, MOST_REASON, MOST_TEXT
from myriant.wire.parcels import CacheKey

RECORDS = "^(phases|settings|machine|caches)$"


class StepTold(BaseModel):
    position: int = Field(ge=0, le=MOST_POSITION)
    name: str = Field(max_length=MOST_TEXT)
    command: str = Field(max_length=MOST_TEXT)
    state: Literal[State.RUNNING, State.PASSED, State.FAILED, State.VOID, State.SKIPPED]
    reason: str = Field("", max_length=MOST_REASON)
    exit_status: int | None = None
    started_at: datetime | None = None
    ended_at: datetime | None = None
    log_from: int | None = None
    log_to: int | None = None


class Finish(BaseModel):
    void: str = Field("", max_length=MOST_REASON)
    machine: bool = False  # the runner's machine is why it is void
    retested: int = Field(0, ge=0, le=100)
    missing: list[str] = Field([], max_length=MOST_LISTED)
    missing_coverage: list[str] = Field([], max_length=MOST_LISTED)
    workspace: str = Field("", max_length=MOST_REASON)
    failed_steps: list[int] = Field([], max_length=MOST_LISTED)
    runtimes: dict[str, str] = {}
    steps: list[StepTold] = Field([], max_length=MOST_LISTED)  # what was not told of them before
    record: dict[Annotated[str, Field(pattern=RECORDS)], Any] = Field({}, max_length=10)


class Size(BaseModel):
    size: int


class Expected(BaseModel):
    """Keys (hexadecimal) of the tests that the baseline lists for a step; None: nothing is known of it."""

    tests: list[str] | None


class CacheAnswer(BaseModel):
    """What the server has for a cache: an entry, or why not."""

    entry: int | None = None
    digest: str = ""
    size: int = 0
    seconds: dict[str, float] = {}  # of the preparing steps in the attempt that saved it
    said: str = ""


class CacheWanted(BaseModel):
    """A cache that an attempt could use."""

    name: str = Field(max_length=MOST_TEXT)
    key: CacheKey


class CacheSaid(BaseModel):
    said: str
