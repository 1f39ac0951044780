"""Runners, servers, and what changed for whoever listens."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import (
    BigInteger,
    String,
)
from sqlalchemy.orm import Mapped, mapped_column

from myriant.store.tables.base import Base, Json, moment


class Runner(Base):
    __tablename__ = "runner"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    slots: Mapped[int]
    runtimes: Mapped[list[Any]]  # {family, version, path}
    offers: Mapped[list[str]]  # every wish it meets: "python 3", "python 3.12", "python 3.12.1"
    isolation: Mapped[str]
    version: Mapped[str]
    boot: Mapped[str]  # changes with each start of the runner
    price: Mapped[float] = mapped_column(server_default="0")  # of a minute of one slot
    labels: Mapped[list[str]] = mapped_column(server_default="{}")
    machine: Mapped[Json] = mapped_column(server_default="{}")  # class, system, processors, memory
    drained: Mapped[str] = mapped_column(server_default="")  # why it is given nothing more, empty when it is
    troubles: Mapped[int] = mapped_column(server_default="0")  # attempts in a row that its machine made void
    projects: Mapped[list[int] | None]  # whose cells it is given; None: all
    seen_at: Mapped[datetime] = moment()


class ServerBeat(Base):
    """A server that answers runners; `since` begins anew when its beats were interrupted."""

    __tablename__ = "server_beat"
    server: Mapped[str] = mapped_column(primary_key=True)
    since: Mapped[datetime] = moment()
    beat_at: Mapped[datetime] = moment()


class Change(Base):
    """Something a browser may want to know of; its id is the event id of the live stream."""

    __tablename__ = "change"
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    project: Mapped[str | None] = mapped_column(String)
    run: Mapped[int | None]
    kind: Mapped[str]
    at: Mapped[datetime] = moment()
