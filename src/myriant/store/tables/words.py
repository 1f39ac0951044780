"""A person's word about what is less, fails, or need not hold."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import (
    ForeignKey,
    Index,
    text,
)
from sqlalchemy.orm import Mapped, mapped_column

from myriant.core.states import (
    Accepted,
)
from myriant.store.tables.base import Base, moment


class Acceptance(Base):
    """A person's word that something less than before may be so, with the reason."""

    __tablename__ = "acceptance"
    __table_args__ = (Index("acceptance_of_project", "project_id", "kind"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    kind: Mapped[Accepted]
    subject: Mapped[str]  # what is accepted: a line of what is loosened, a test's number, a commit
    run: Mapped[int]  # the number of the run in which it was accepted
    reason: Mapped[str]
    by: Mapped[str]
    at: Mapped[datetime] = moment()


class Lasting(Base):
    """A test that is less than it was (vanished, newly skipped), from the run that showed it until it is settled."""

    __tablename__ = "lasting"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    test: Mapped[int] = mapped_column(primary_key=True)
    since: Mapped[int] = mapped_column(primary_key=True)  # the number of the run
    what: Mapped[Accepted]  # vanished or newly skipped
    commit: Mapped[str] = mapped_column("commit_id")
    back: Mapped[list[str]] = mapped_column(server_default="{}")  # commits at which it was seen again


class Waiver(Base):
    """A person's word that a rule of the plan need not hold for a time, with the reason."""

    __tablename__ = "waiver"
    __table_args__ = (Index("waiver_of_project", "project_id", "rule"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    rule: Mapped[str]  # its name
    context: Mapped[str]  # where it holds, "push main"; empty: everywhere
    run: Mapped[int]  # the number of the run that showed what is waived
    about: Mapped[str]  # its measure and sign
    worst: Mapped[str]  # the value that was seen there, as a fraction: nothing worse is waived
    shown: Mapped[str]  # the same in words, with its limit
    reason: Mapped[str]
    by: Mapped[str]
    at: Mapped[datetime] = moment()
    until: Mapped[datetime]
    ended_at: Mapped[datetime | None]
    ended_why: Mapped[str] = mapped_column(server_default="")


class Taking(Base):
    """A person's name on a cause of failures, until it is fixed or given back."""

    __tablename__ = "taking"
    __table_args__ = (Index("taking_open", "project_id", postgresql_where=text("ended_at IS NULL")),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    signature: Mapped[str]
    title: Mapped[str]  # of the finding when it was taken
    context: Mapped[str]  # of the run in which it was taken: there it has to be fixed
    run: Mapped[int]  # that run's number
    by: Mapped[str]
    note: Mapped[str] = mapped_column(server_default="")
    at: Mapped[datetime] = moment()
    ended_at: Mapped[datetime | None]
    ended_why: Mapped[str] = mapped_column(server_default="")


class Quarantine(Base):
    """A test whose failures are recorded but hold no run, with who said so and until when."""

    __tablename__ = "quarantine"
    __table_args__ = (Index("quarantine_of_project", "project_id", "ended_at"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    test: Mapped[int]
    reason: Mapped[str]
    owner: Mapped[str]
    by: Mapped[str]
    at: Mapped[datetime] = moment()
    until: Mapped[datetime]
    ended_at: Mapped[datetime | None]
    ended_why: Mapped[str] = mapped_column(server_default="")


class MovedTest(Base):
    """A test found again under another name: its history goes on."""

    __tablename__ = "moved_test"
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), primary_key=True)
    now: Mapped[int] = mapped_column(primary_key=True)
    before: Mapped[int]
    run: Mapped[int]  # the number of the run that showed it
    because: Mapped[str]
    proven: Mapped[bool] = mapped_column(server_default=text("false"))  # git or the test's own lines show it
