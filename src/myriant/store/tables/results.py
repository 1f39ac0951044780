"""Results of tests and of analysis."""

from __future__ import annotations

from typing import Any

from sqlalchemy import (
    Computed,
    ForeignKey,
    Index,
    SmallInteger,
    UniqueConstraint,
    text,
)
from sqlalchemy.orm import Mapped, mapped_column

from myriant.store.tables.base import Base, Json


class Test(Base):
    """A test's identity in its project; `number` is dense, so that neighbours share a packed segment."""

    __tablename__ = "test"
    __table_args__ = (UniqueConstraint("project_id", "key"),)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    number: Mapped[int] = mapped_column(primary_key=True)
    key: Mapped[bytes]
    job: Mapped[str]
    kind: Mapped[str]
    suite: Mapped[str]
    klass: Mapped[str] = mapped_column("class")
    name: Mapped[str]
    words: Mapped[str] = mapped_column(Computed("lower(suite || ' ' || class || ' ' || name)", persisted=True))


class TestList(Base):
    """The numbers of an ordered list of tests: most reports list the tests of the report before."""

    __tablename__ = "test_list"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    digest: Mapped[bytes] = mapped_column(primary_key=True)
    numbers: Mapped[bytes]


class Failure(Base):
    """A result that is not passed, in full."""

    __tablename__ = "failure"
    __table_args__ = (
        Index("failure_of_signature", "signature", postgresql_where=text("signature <> ''")),
        Index("failure_of_test", "test"),
    )
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id", ondelete="CASCADE"), primary_key=True)
    test: Mapped[int] = mapped_column(primary_key=True)
    outcome: Mapped[int] = mapped_column(SmallInteger)
    message: Mapped[str]
    detail: Mapped[str]
    seconds: Mapped[float | None]
    signature: Mapped[str] = mapped_column(server_default="")  # of what failed or errored
    extra: Mapped[Json] = mapped_column(server_default="{}")  # type, output, file, line, attachments, setup


class Segment(Base):
    """Packed outcomes and durations of neighbouring tests of one attempt."""

    __tablename__ = "segment"
    __table_args__ = (Index("segment_of_attempt", "attempt_id"),)
    number: Mapped[int] = mapped_column(primary_key=True)
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id", ondelete="CASCADE"), primary_key=True)
    outcomes: Mapped[bytes]
    durations: Mapped[bytes]


class AnalysisResult(Base):
    """One result of static analysis of an attempt."""

    __tablename__ = "analysis_result"
    attempt_id: Mapped[int] = mapped_column(ForeignKey("attempt.id", ondelete="CASCADE"), primary_key=True)
    key: Mapped[str] = mapped_column(primary_key=True)  # the same for the same result in another run
    tool: Mapped[str]
    rule: Mapped[str]
    level: Mapped[str]  # error, warning, note, none
    path: Mapped[str]
    line: Mapped[int]
    message: Mapped[str]
    about: Mapped[str]
    suppressed: Mapped[bool]
    related: Mapped[list[Any]] = mapped_column(server_default="[]")
