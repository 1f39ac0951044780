"""Where outcomes are told, to whom, and what was told."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import (
    BigInteger,
    ForeignKey,
    Index,
    UniqueConstraint,
    text,
)
from sqlalchemy.orm import Mapped, mapped_column

from myriant.core.states import (
    DeliveryState,
    Page,
    Wants,
)
from myriant.store.records import Record, Telling
from myriant.store.tables.base import Base, moment


class Way(Base):
    """Where a project's outcomes are told: a request by template, or a mail."""

    __tablename__ = "way"
    __table_args__ = (UniqueConstraint("project_id", "name"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    name: Mapped[str]
    kind: Mapped[str]  # request, mail
    shown: Mapped[str]  # what anybody may see of where it leads: the host, or the receivers
    sealed: Mapped[bytes]  # the template, or receivers; addresses of requests often are secrets
    always: Mapped[bool]  # every outcome, pending ones too; otherwise only what is news
    moments: Mapped[list[str]] = mapped_column(server_default="{}")  # of news: held, cleared, released; none: each
    planned: Mapped[bool] = mapped_column(server_default=text("false"))  # it stands in the plan on the main branch
    branches: Mapped[list[str]] = mapped_column(server_default="{}")  # globs; none: all
    events: Mapped[list[str]] = mapped_column(server_default="{}")  # push, pull-request, …; none: all
    on: Mapped[bool] = mapped_column("in_force", server_default=text("true"))
    morning: Mapped[str] = mapped_column(server_default="")  # "weekday 07:30 Europe/Oslo": a page is told then
    morning_at: Mapped[datetime | None]  # when it comes next; None: outcomes are told
    page: Mapped[Page] = mapped_column(server_default="morning")  # which
    by: Mapped[str]
    at: Mapped[datetime] = moment()


class Hearer(Base):
    """How a person hears of a project's news by mail, whatever its ways say."""

    __tablename__ = "hearer"
    __table_args__ = (UniqueConstraint("project_id", "address"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    address: Mapped[str]
    wants: Mapped[Wants]
    quiet: Mapped[str] = mapped_column(server_default="")  # "22:00-07:00 Europe/Oslo": kept until it ends
    gathered: Mapped[str] = mapped_column(server_default="")  # "weekday 08:00 Europe/Oslo": told then, in one mail
    by: Mapped[str]
    at: Mapped[datetime] = moment()


class KeptNews(Base):
    """A piece of news that is kept for somebody until they want to hear."""

    __tablename__ = "kept_news"
    __table_args__ = (
        UniqueConstraint("delivery_id", "address"),
        Index("kept_news_of_project", "project_id"),
        Index("kept_news_due", "due_at", postgresql_where=text("told_in IS NULL")),
    )
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    address: Mapped[str]
    delivery_id: Mapped[int] = mapped_column(BigInteger, ForeignKey("delivery.id", ondelete="CASCADE"))
    due_at: Mapped[datetime]
    told_in: Mapped[int | None] = mapped_column(BigInteger)  # the delivery that told it with others


class Delivery(Base):
    """Something that was, or is to be, told on a way: once for each subject."""

    __tablename__ = "delivery"
    __table_args__ = (
        UniqueConstraint("way_id", "subject"),
        Index("delivery_of_run", "project_id", "run"),
        Index("delivery_in_context", "way_id", "context", "id"),
        Index("delivery_waiting", "way_id", "id", postgresql_where=text("state = 'waiting'")),
    )
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    way_id: Mapped[int] = mapped_column(ForeignKey("way.id", ondelete="CASCADE"))
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    run: Mapped[int]  # its number
    context: Mapped[str]  # of the run
    subject: Mapped[str]  # what makes it one thing that is told once
    said: Mapped[str]  # in a few words
    told: Mapped[Telling] = mapped_column("named_values", Record(Telling))
    state: Mapped[DeliveryState]
    tries: Mapped[int] = mapped_column(server_default="0")
    next_at: Mapped[datetime] = moment()
    sent_at: Mapped[datetime | None]
    answer: Mapped[str] = mapped_column(server_default="")
    created_at: Mapped[datetime] = moment()
