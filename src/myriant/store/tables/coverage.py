"""Coverage: totals, files, and each vector of lines once."""

from __future__ import annotations

from sqlalchemy import (
    ForeignKey,
    Index,
    UniqueConstraint,
    text,
)
from sqlalchemy.orm import Mapped, mapped_column

from myriant.store.tables.base import Base


class SourceFile(Base):
    """A path that coverage names, in its project."""

    __tablename__ = "source_file"
    __table_args__ = (UniqueConstraint("project_id", "path"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    path: Mapped[str]


class CoverageTotal(Base):
    """Coverage of one attempt, or merged over the cells of a job (no attempt) or of all jobs (empty job)."""

    __tablename__ = "coverage_total"
    __table_args__ = (
        Index("coverage_of_run", "run_id", "job", unique=True, postgresql_where=text("attempt_id IS NULL")),
        Index("coverage_of_attempt", "attempt_id", unique=True, postgresql_where=text("attempt_id IS NOT NULL")),
        Index("coverage_by_run", "run_id"),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    run_id: Mapped[int] = mapped_column(ForeignKey("run.id", ondelete="CASCADE"))
    job: Mapped[str]
    attempt_id: Mapped[int | None] = mapped_column(ForeignKey("attempt.id", ondelete="CASCADE"))
    lines_valid: Mapped[int]
    lines_covered: Mapped[int]
    branches_valid: Mapped[int]
    branches_covered: Mapped[int]
    functions_valid: Mapped[int] = mapped_column(server_default="0")
    functions_covered: Mapped[int] = mapped_column(server_default="0")


class CoverageVector(Base):
    """One file's packed coverage, kept once for a project however many cells and runs have it."""

    __tablename__ = "coverage_vector"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    digest: Mapped[bytes] = mapped_column(primary_key=True)  # SHA-256
    packed: Mapped[bytes]


class CoverageFile(Base):
    """One file's coverage under a total."""

    __tablename__ = "coverage_file"
    __table_args__ = (Index("coverage_file_of_vector", "digest"),)
    total_id: Mapped[int] = mapped_column(ForeignKey("coverage_total.id", ondelete="CASCADE"), primary_key=True)
    file_id: Mapped[int] = mapped_column(ForeignKey("source_file.id", ondelete="CASCADE"), primary_key=True, index=True)
    digest: Mapped[bytes]  # of its vector
    lines_valid: Mapped[int | None]  # None: it was kept before they were
    lines_covered: Mapped[int | None]
