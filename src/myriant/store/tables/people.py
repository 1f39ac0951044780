"""People and their ways in, and what was done by whom."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import (
    BigInteger,
    ForeignKey,
    Index,
    text,
)
from sqlalchemy.orm import Mapped, mapped_column

from myriant.core.states import (
    Role,
    TokenKind,
)
from myriant.store.tables.base import Base, moment


class Account(Base):
    __tablename__ = "account"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    role: Mapped[Role]
    created_at: Mapped[datetime] = moment()


class Token(Base):
    """A way in: a one-time sign-in link, a browser session, a command-line token, a runner's or a hook's."""

    __tablename__ = "token"
    __table_args__ = (Index("token_of_runner", "runner", unique=True, postgresql_where=text("runner IS NOT NULL")),)
    digest: Mapped[str] = mapped_column(primary_key=True)  # SHA-256; the token itself is never stored
    kind: Mapped[TokenKind]
    account_id: Mapped[int | None] = mapped_column(ForeignKey("account.id", ondelete="CASCADE"), index=True)
    project_id: Mapped[int | None] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    runner: Mapped[str | None]  # whose own it is
    projects: Mapped[list[int] | None]  # whose cells that runner is given; None: all
    ends_at: Mapped[datetime | None]
    created_at: Mapped[datetime] = moment()
    used_at: Mapped[datetime | None]  # a runner's: when it last enrolled


class Audit(Base):
    """What a person did that changes what is asked or told."""

    __tablename__ = "audit"
    __table_args__ = (Index("audit_of_project", "project_id", "id"),)
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    project_id: Mapped[int | None] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    by: Mapped[str]
    what: Mapped[str]
    said: Mapped[str]
    at: Mapped[datetime] = moment()
