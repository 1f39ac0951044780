"""Projects, their branches and tags, pull requests, schedules, and what they keep for themselves."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from sqlalchemy import (
    BigInteger,
    ForeignKey,
    Index,
    UniqueConstraint,
    text,
)
from sqlalchemy.orm import Mapped, mapped_column

from myriant.core.states import (
    BatchState,
    PullState,
)
from myriant.store.records import DrillAsked, Record
from myriant.store.tables.base import Base, Json, moment


class Project(Base):
    __tablename__ = "project"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    description: Mapped[str] = mapped_column(server_default="")
    address: Mapped[str]  # of the repository: a path or what git fetches from
    credential: Mapped[bytes | None]  # what opens it, sealed
    main_branch: Mapped[str] = mapped_column(server_default="main")
    hooked: Mapped[bool] = mapped_column(server_default=text("false"))
    looked_at: Mapped[datetime | None]
    trouble: Mapped[str | None]  # why the last look failed
    plan: Mapped[str | None]  # kept on the server, for a repository that has none
    paused: Mapped[bool] = mapped_column(server_default=text("false"))  # nothing is started by itself
    tracker: Mapped[str] = mapped_column(server_default="")  # where the team's notes lie: https://…/{id}
    keep_days: Mapped[int | None]  # how long logs and files of older runs are kept; None: for ever
    budget: Mapped[int | None]  # minutes of runners a month that it may take; None: nobody said
    event_budgets: Mapped[Json] = mapped_column(server_default="{}")  # the same by event
    badge_key: Mapped[str] = mapped_column(server_default="")  # stands in the addresses of its badges
    pull_refs: Mapped[str] = mapped_column(server_default="")  # refs that are pull requests: refs/changes/*/head
    pull_target: Mapped[str] = mapped_column(server_default="")  # into which they go; empty: the main branch
    pull_strangers: Mapped[bool] = mapped_column(server_default=text("false"))  # such refs are of strangers
    pull_refresh: Mapped[str] = mapped_column(server_default="")  # "at once", or a time: tested anew when it moved
    pull_refresh_at: Mapped[datetime | None]
    stranger_minutes: Mapped[int | None]  # of runners, that a stranger's pull request may take; None: no bound
    drill_words: Mapped[str] = mapped_column(server_default="")  # "monday 06:00 Europe/Oslo": its gate is tried then
    drill_at: Mapped[datetime | None]
    drilled_at: Mapped[datetime | None]  # the last time
    drilled: Mapped[Json] = mapped_column(server_default="{}")  # what came of it: passed, said
    drill_asked: Mapped[DrillAsked | None] = mapped_column(Record(DrillAsked))
    foreign: Mapped[Json] = mapped_column("foreign_events", server_default="{}")  # how another host's are read
    foreign_secret: Mapped[bytes | None]  # by which they are known, sealed
    event_secret: Mapped[str] = mapped_column(server_default="")  # what events told over HTTP are signed with
    next_number: Mapped[int] = mapped_column(server_default="1")
    next_test: Mapped[int] = mapped_column(server_default="0")
    served: Mapped[float] = mapped_column(server_default="0")  # the rank of its last cell in the shared queue
    created_at: Mapped[datetime] = moment()


class Ref(Base):
    """The commit that a branch or tag was last seen at."""

    __tablename__ = "ref"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    name: Mapped[str] = mapped_column(primary_key=True)
    commit: Mapped[str] = mapped_column("commit_id")


class PullRequest(Base):
    """A wish to merge one branch into another, as it was told."""

    __tablename__ = "pull_request"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    source: Mapped[str]
    target: Mapped[str]
    title: Mapped[str] = mapped_column(server_default="")
    author: Mapped[str] = mapped_column(server_default="")
    state: Mapped[PullState]
    stranger: Mapped[bool] = mapped_column(server_default=text("false"))  # its author may not write here
    allowed: Mapped[str] = mapped_column(server_default="")  # the head that a maintainer let run all the same
    opened_at: Mapped[datetime] = moment()


class Batch(Base):
    """Pull requests that are tested together, merged one upon the other in the order given."""

    __tablename__ = "batch"
    __table_args__ = (
        UniqueConstraint("project_id", "number"),
        Index("batch_open", "project_id", postgresql_where=text("state = 'testing'")),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    number: Mapped[int]
    target: Mapped[str]
    base: Mapped[str]  # the target's commit that they are merged into
    asked: Mapped[list[Any]]  # {pull, head, title}, in the order given
    stack: Mapped[list[Any]] = mapped_column(server_default="[]")  # {pull, commit}: those that are merged now
    out: Mapped[list[Any]] = mapped_column(server_default="[]")  # {pull, why, run}: those that are left out
    again: Mapped[list[int]] = mapped_column(server_default="{}")  # runs that were run again before a pull was named
    merge: Mapped[bool] = mapped_column(server_default=text("false"))  # into the target, once they are clear
    merged: Mapped[str] = mapped_column(server_default="")  # the commit that the target became
    state: Mapped[BatchState]
    said: Mapped[str] = mapped_column(server_default="")
    by: Mapped[str]
    at: Mapped[datetime] = moment()
    ended_at: Mapped[datetime | None]


class Schedule(Base):
    """A schedule of the plan on the main branch, and when it comes next."""

    __tablename__ = "schedule"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    name: Mapped[str] = mapped_column(primary_key=True)
    branch: Mapped[str]
    words: Mapped[str]
    next_at: Mapped[datetime]


class SeenEvent(Base):
    """An event that was told over HTTP, so that a repeat is recognised."""

    __tablename__ = "seen_event"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    source: Mapped[str] = mapped_column(primary_key=True)
    event_id: Mapped[str] = mapped_column(primary_key=True)
    said: Mapped[str]
    at: Mapped[datetime] = moment()


class Secret(Base):
    """A value that only runners are given; sealed with the installation's key, which is not in the database."""

    __tablename__ = "secret"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    name: Mapped[str] = mapped_column(primary_key=True)
    sealed: Mapped[bytes]
    jobs: Mapped[list[str]] = mapped_column(server_default="{}")  # none: every job
    events: Mapped[list[str]] = mapped_column(server_default="{}")  # none: all but pull requests
    branches: Mapped[list[str]] = mapped_column(server_default="{}")  # patterns; none: every branch
    set_by: Mapped[str]
    set_at: Mapped[datetime] = moment()
    used_at: Mapped[datetime | None]
    used_by: Mapped[str] = mapped_column(server_default="")  # "#214 unit"


class KindRule(Base):
    """Shapes of failures that a project adds to the usual ones, as TOML."""

    __tablename__ = "kind_rule"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    text: Mapped[str]
    by: Mapped[str]
    at: Mapped[datetime] = moment()


class KeptFilter(Base):
    """What a project's people look for again and again, under a name."""

    __tablename__ = "kept_filter"
    __table_args__ = (UniqueConstraint("project_id", "page", "name"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    page: Mapped[str]  # runs, failures, logs, tests
    name: Mapped[str]
    query: Mapped[str]  # as it stands in the page's address
    by: Mapped[str]
    at: Mapped[datetime] = moment()


class SizeOfDay(Base):
    """What a part of the database weighed on a day."""

    __tablename__ = "size_of_day"
    day: Mapped[date] = mapped_column(primary_key=True)
    what: Mapped[str] = mapped_column(primary_key=True)
    bytes: Mapped[int] = mapped_column(BigInteger)
