"""Runs, and what is said of them."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import (
    BigInteger,
    Computed,
    ForeignKey,
    Index,
    Integer,
    UniqueConstraint,
    text,
)
from sqlalchemy.dialects.postgresql import ARRAY
from sqlalchemy.orm import Mapped, mapped_column

from myriant.core.states import (
    ApprovalState,
    EventKind,
    State,
    Verdict,
    Why,
)
from myriant.store.records import Measures, Record, RuleJudged, RunWish
from myriant.store.tables.base import Base, moment


class PlanText(Base):
    """A plan as it was written, once however many runs were made by it."""

    __tablename__ = "plan_text"
    digest: Mapped[str] = mapped_column(primary_key=True)  # SHA-256 of the file
    text: Mapped[str]


class Run(Base):
    __tablename__ = "run"
    __table_args__ = (
        UniqueConstraint("project_id", "number"),
        Index("run_on_branch", "project_id", "branch", "depth", "number"),
        Index("run_of_commit", "commit_id", "project_id"),
        Index("run_in_context", "project_id", "context", "number"),
        Index("run_of_baseline", "baseline_id"),
        Index("run_of_plan", "plan_digest"),
        Index("run_of_asked", "asked_digest"),
        Index("run_of_batch", "batch_id"),
        Index("run_open", "project_id", postgresql_where=text("state in ('waiting', 'running')")),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    number: Mapped[int]
    event: Mapped[EventKind]
    context: Mapped[str]  # where its verdict holds, "push main", "tag v1"; empty: it is evidence only
    branch: Mapped[str]
    commit: Mapped[str] = mapped_column("commit_id")
    before: Mapped[str | None]  # the branch's commit before the event
    tree: Mapped[str | None]  # of what was tested
    tag: Mapped[str] = mapped_column(server_default="")
    source: Mapped[str] = mapped_column(server_default="")  # a pull request's own branch; `branch` is its target
    pull_request: Mapped[int | None]
    batch_id: Mapped[int | None] = mapped_column(ForeignKey("batch.id", ondelete="SET NULL"))
    base: Mapped[str | None]  # the target's commit that a pull request was merged into
    tested: Mapped[str | None]  # the merge that was tested, when it is not the commit itself
    wish: Mapped[RunWish] = mapped_column(Record(RunWish), default=RunWish(), server_default="{}")
    left_out: Mapped[list[Any]] = mapped_column(server_default="[]")  # jobs that do not run, and why; blind spots
    asked_digest: Mapped[str | None] = mapped_column(ForeignKey("plan_text.digest"))  # of the target's plan
    gated_said: Mapped[str] = mapped_column(server_default="")  # how the jobs behind the verdict ended
    depth: Mapped[int] = mapped_column(server_default="0")  # number of first-parent ancestors: order is ancestry
    title: Mapped[str] = mapped_column(server_default="")
    author: Mapped[str] = mapped_column(server_default="")
    author_mail: Mapped[str] = mapped_column(server_default="")
    plan_digest: Mapped[str | None] = mapped_column(ForeignKey("plan_text.digest"))  # of the plan at the commit
    problems: Mapped[list[Any]] = mapped_column(server_default="[]")  # of the plan
    state: Mapped[State]
    verdict: Mapped[Verdict]
    taken: Mapped[list[Any]] = mapped_column(server_default="[]")  # artifacts of other projects, by job (Taken)
    why: Mapped[Why] = mapped_column(server_default="")
    reason: Mapped[str] = mapped_column(server_default="")
    sentence: Mapped[str] = mapped_column(server_default="")
    note: Mapped[str | None]  # what the run adds to its commit's note
    noted: Mapped[str | None]  # the note as it was written last
    noted_at: Mapped[datetime | None]
    note_trouble: Mapped[str | None]
    baseline_id: Mapped[int | None] = mapped_column(ForeignKey("run.id", ondelete="SET NULL"))  # the gate baseline
    measures: Mapped[Measures] = mapped_column(Record(Measures), default=Measures(), server_default="{}")
    totals: Mapped[list[int]] = mapped_column(  # of its jobs, in the order of store.trends.TOTALS
        ARRAY(Integer), Computed("totals_of_jobs(measures)", persisted=True), nullable=True, deferred=True
    )
    judged: Mapped[tuple[RuleJudged, ...]] = mapped_column(
        Record(tuple[RuleJudged, ...]), default=(), server_default="[]"
    )
    created_at: Mapped[datetime] = moment()
    started_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    rested: Mapped[float] = mapped_column(server_default="0")  # seconds between verdicts in which nothing of it ran

    @property
    def took(self) -> float | None:
        """Seconds from its first cell's start to its end."""
        return self._until_its_end(self.started_at)

    @property
    def to_verdict(self) -> float | None:
        """Seconds from its event to its end."""
        return self._until_its_end(self.created_at)

    def _until_its_end(self, since: datetime | None) -> float | None:
        return (self.ended_at - since).total_seconds() - self.rested if since and self.ended_at else None


class JobResult(Base):
    """What a run says of one of its jobs. `good`: it can be trusted and held nobody up, so it is a baseline."""

    __tablename__ = "job_result"
    __table_args__ = (Index("job_result_of_commit", "project_id", "job", "commit_id"),)
    run_id: Mapped[int] = mapped_column(ForeignKey("run.id", ondelete="CASCADE"), primary_key=True)
    job: Mapped[str] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    commit: Mapped[str] = mapped_column("commit_id")
    context: Mapped[str]
    number: Mapped[int]  # of the run
    asked: Mapped[bool]  # false: the event did not ask for it
    trusted: Mapped[bool | None]  # None: not judged yet
    good: Mapped[bool | None]
    baseline_id: Mapped[int | None] = mapped_column(ForeignKey("run.id", ondelete="SET NULL"), index=True)


class Untested(Base):
    """A commit that came with others and has no run of its own."""

    __tablename__ = "untested"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    commit: Mapped[str] = mapped_column("commit_id", primary_key=True)
    branch: Mapped[str] = mapped_column(primary_key=True)
    run: Mapped[int]  # the number of the run that tested the push it came with
    title: Mapped[str]
    reason: Mapped[str]


class Approval(Base):
    """A word that a job of a run waits for."""

    __tablename__ = "approval"
    run_id: Mapped[int] = mapped_column(ForeignKey("run.id", ondelete="CASCADE"), primary_key=True)
    job: Mapped[str] = mapped_column(primary_key=True)
    state: Mapped[ApprovalState]
    by: Mapped[str] = mapped_column(server_default="")
    reason: Mapped[str] = mapped_column(server_default="")
    until: Mapped[datetime]
    at: Mapped[datetime | None]


class Outcome(Base):
    """What was said of a run, in the order in which it was said; for those who read along."""

    __tablename__ = "outcome"
    __table_args__ = (Index("outcome_of_project", "project_id", "id"), Index("outcome_of_run", "run_id"))
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    run_id: Mapped[int] = mapped_column(ForeignKey("run.id", ondelete="CASCADE"))
    verdict: Mapped[Verdict]
    news: Mapped[str]  # held, cleared; empty where nothing changed in its context
    sentence: Mapped[str]
    at: Mapped[datetime] = moment()
