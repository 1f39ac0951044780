"""Cells and attempts: steps, logs, records, files, caches; control runs and searches."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import (
    BigInteger,
    ForeignKey,
    Index,
    UniqueConstraint,
    text,
)
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Mapped, mapped_column

from myriant.core.states import (
    Content,
    ControlState,
    Mark,
    Place,
    SearchState,
    State,
    Why,
)
from myriant.store.records import Counts, Finish, Record, SendingTold
from myriant.store.tables.base import Base, Json, moment


class Cell(Base):
    __tablename__ = "cell"
    __table_args__ = (
        UniqueConstraint("run_id", "job", "key"),
        Index("cell_waiting", "rank", "id", postgresql_where=text("state = 'waiting' AND ready")),
        Index("cell_running", "rank", postgresql_where=text("state = 'running'")),
        Index("cell_of_content", "content"),
        Index("cell_housekeeping", "run_id", postgresql_where=text("housekeeping")),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    run_id: Mapped[int] = mapped_column(ForeignKey("run.id", ondelete="CASCADE"))
    job: Mapped[str]
    job_title: Mapped[str]
    position: Mapped[int]  # in the order of the plan
    key: Mapped[str]  # "python=3.12,rounding=nearest"
    values: Mapped[Json] = mapped_column("dimension_values")
    wants: Mapped[list[str]]  # runtimes: "python 3.12"
    advisory: Mapped[bool] = mapped_column(server_default=text("false"))
    selected: Mapped[bool] = mapped_column(server_default=text("true"))
    housekeeping: Mapped[bool] = mapped_column(server_default=text("false"))  # gated, and waits for no verdict
    gated: Mapped[bool] = mapped_column(server_default=text("false"))
    ready: Mapped[bool] = mapped_column(server_default=text("true"))  # nothing of the plan keeps it from starting
    at_once: Mapped[int | None]
    reused: Mapped[int | None]  # the run whose attempt answers for this cell: same content
    content: Mapped[str | None]  # digest of all that decides its result, but the exact runtimes
    state: Mapped[State]
    why: Mapped[Why] = mapped_column(server_default="")
    reason: Mapped[str] = mapped_column(server_default="")
    mark: Mapped[Mark] = mapped_column(server_default="waiting")  # what the strip draws
    attempt_id: Mapped[int | None]  # the newest
    counts: Mapped[Counts] = mapped_column(Record(Counts), default=Counts(), server_default="{}")  # of the newest
    rank: Mapped[float] = mapped_column(server_default="0")  # its turn in the shared queue, the least first
    predicted: Mapped[float | None]  # seconds, by what it took before


class Attempt(Base):
    __tablename__ = "attempt"
    __table_args__ = (
        UniqueConstraint("cell_id", "number"),  # control runs have negative numbers
        Index("attempt_leased", "lease_until", postgresql_where=text("state = 'running'")),
        Index("attempt_of_runner", "runner_id", "created_at"),
        Index("attempt_running", "runner_id", postgresql_where=text("state = 'running'")),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    cell_id: Mapped[int] = mapped_column(ForeignKey("cell.id", ondelete="CASCADE"))
    number: Mapped[int]
    state: Mapped[State]
    reason: Mapped[str] = mapped_column(server_default="")
    runner: Mapped[str]
    runner_id: Mapped[int | None] = mapped_column(ForeignKey("runner.id", ondelete="SET NULL"))
    lease_digest: Mapped[str]
    lease_until: Mapped[datetime]
    runtimes: Mapped[Json] = mapped_column(server_default="{}")  # exact versions
    finish: Mapped[Finish | None] = mapped_column(Record(Finish))  # what the runner said at the end
    log_size: Mapped[int] = mapped_column(BigInteger, server_default="0")
    log_lines: Mapped[int] = mapped_column(BigInteger, server_default="0")  # line ends in it
    created_at: Mapped[datetime] = moment()
    started_at: Mapped[datetime | None]  # first step
    proof: Mapped[list[Json] | None] = mapped_column(JSONB)  # files that it looked for at its target (Proven)
    pruned_at: Mapped[datetime | None]  # since then its log and files are kept no more
    ended_at: Mapped[datetime | None]


class Step(Base):
    __tablename__ = "step"
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id", ondelete="CASCADE"), primary_key=True)
    position: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    command: Mapped[str]
    state: Mapped[State]
    reason: Mapped[str] = mapped_column(server_default="")
    exit_status: Mapped[int | None]
    started_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    log_from: Mapped[int | None] = mapped_column(BigInteger)
    log_to: Mapped[int | None] = mapped_column(BigInteger)
    tests: Mapped[bytes | None]  # the list of tests in its reports (test_list)
    failures: Mapped[int | None]  # of them that failed or errored, once its reports have been read


class LogChunk(Base):
    __tablename__ = "log_chunk"
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id", ondelete="CASCADE"), primary_key=True)
    offset: Mapped[int] = mapped_column("log_offset", BigInteger, primary_key=True)
    size: Mapped[int]
    blob: Mapped[str]
    packed: Mapped[bool] = mapped_column(server_default=text("false"))  # a zstd frame
    first_line: Mapped[int] = mapped_column(BigInteger, server_default="0")  # line ends before it
    lines: Mapped[int] = mapped_column(server_default="0")  # line ends in it
    at: Mapped[datetime] = moment()


class AttemptRecord(Base):
    """What a runner told of an attempt beside its steps: phases, settings, machine, caches."""

    __tablename__ = "attempt_record"
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id", ondelete="CASCADE"), primary_key=True)
    kind: Mapped[str] = mapped_column(primary_key=True)
    content: Mapped[list[Any]] = mapped_column(JSONB)


class UsualLines(Base):
    """Digests of the lines that passing attempts of a step print, newest last."""

    __tablename__ = "usual_lines"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    job: Mapped[str] = mapped_column(primary_key=True)
    step: Mapped[str] = mapped_column(primary_key=True)
    digests: Mapped[bytes]
    attempts: Mapped[int]


class CacheEntry(Base):
    """An archive kept between attempts. `scope` is who may be given it: a branch, or one pull request."""

    __tablename__ = "cache_entry"
    __table_args__ = (
        UniqueConstraint("project_id", "scope", "job", "name", "key"),
        Index("cache_by_use", "project_id", "used_at"),
        Index("cache_of_attempt", "attempt_id"),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    scope: Mapped[str]
    job: Mapped[str]
    name: Mapped[str]
    key: Mapped[str]  # digest of `parts`
    parts: Mapped[Json]  # what it depends on: files, runtimes, system
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id", ondelete="CASCADE"))  # that saved it
    kept: Mapped[bool] = mapped_column(server_default=text("false"))  # true once that attempt passed
    seconds: Mapped[Json]  # of its preparing steps, by name
    digest: Mapped[str]
    size: Mapped[int] = mapped_column(BigInteger)
    blob: Mapped[str]
    created_at: Mapped[datetime] = moment()
    used_at: Mapped[datetime] = moment()
    uses: Mapped[int] = mapped_column(server_default="0")


class Report(Base):
    """A file of results or coverage that a step wrote, kept as it came, with its totals."""

    __tablename__ = "report"
    __table_args__ = (UniqueConstraint("attempt_id", "number"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id", ondelete="CASCADE"))
    number: Mapped[int]
    step: Mapped[int]
    content: Mapped[Content]
    kind: Mapped[str]  # unit, integration, …
    path: Mapped[str]
    digest: Mapped[str]  # SHA-256
    size: Mapped[int] = mapped_column(BigInteger)
    blob: Mapped[str]
    until: Mapped[datetime | None]  # artifacts: the end of keeping
    problems: Mapped[list[Any]] = mapped_column(server_default="[]")
    total: Mapped[int] = mapped_column(server_default="0")
    passed: Mapped[int] = mapped_column(server_default="0")
    failed: Mapped[int] = mapped_column(server_default="0")
    errored: Mapped[int] = mapped_column(server_default="0")
    skipped: Mapped[int] = mapped_column(server_default="0")
    seconds: Mapped[float] = mapped_column(server_default="0")


class Sending(Base):
    """A file of results made elsewhere that is being sent, piece by piece."""

    __tablename__ = "sending"
    id: Mapped[str] = mapped_column(primary_key=True)  # the sender's own, random
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    told: Mapped[SendingTold] = mapped_column(Record(SendingTold))
    run: Mapped[int | None]
    at: Mapped[datetime] = moment()


class Control(Base):
    """A cell of a held run that is repeated: here, or on the gate baseline today."""

    __tablename__ = "control"
    __table_args__ = (
        Index("control_waiting", "id", postgresql_where=text("state = 'waiting'")),
        Index("control_of_run", "run_id"),
        Index("control_of_cell", "cell_id"),
        Index("control_of_search", "search_id"),
        Index("control_of_attempt", "attempt_id"),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    run_id: Mapped[int] = mapped_column(ForeignKey("run.id", ondelete="CASCADE"))
    cell_id: Mapped[int] = mapped_column(ForeignKey("cell.id", ondelete="CASCADE"))
    place: Mapped[Place]
    search_id: Mapped[int | None] = mapped_column(ForeignKey("search.id", ondelete="CASCADE"))
    commit: Mapped[str] = mapped_column("commit_id")
    state: Mapped[ControlState]
    attempt_id: Mapped[int | None]


class Search(Base):
    """A search for the first bad commit of one test in one cell; its tries are control runs."""

    __tablename__ = "search"
    __table_args__ = (Index("search_of_run", "run_id", "test"), Index("search_of_cell", "cell_id"))
    id: Mapped[int] = mapped_column(primary_key=True)
    run_id: Mapped[int] = mapped_column(ForeignKey("run.id", ondelete="CASCADE"))
    cell_id: Mapped[int] = mapped_column(ForeignKey("cell.id", ondelete="CASCADE"))
    test: Mapped[int]
    good: Mapped[str] = mapped_column(server_default="")  # where the test last passed
    commits: Mapped[list[str]]  # after it, oldest first; the last is known to be bad
    slots: Mapped[int]
    random: Mapped[float] = mapped_column(server_default="0")  # chance, from its past, that it fails at times anyway
    rate: Mapped[float] = mapped_column(server_default="0")  # how often then
    state: Mapped[SearchState]
    said: Mapped[str] = mapped_column(server_default="")
    answer: Mapped[str] = mapped_column(server_default="")  # the commit that it ended with, where it found one
    by: Mapped[str]
    at: Mapped[datetime] = moment()
