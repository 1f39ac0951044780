"""Questions about accounts and tokens."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import ColumnElement, delete, func, or_, select, update
from sqlalchemy.orm import Session, aliased

from myriant.store.tables import Account, Project, Runner, Token


def account_named(session: Session, name: str) -> Account | None:
    return session.scalar(select(Account).where(Account.name == name))


def account_of_token(session: Session, digest: str, kind: str) -> Account | None:
    """Whose live token of this kind has this digest."""
    query = select(Account).join(Token, Token.account_id == Account.id)
    return session.scalar(query.where(Token.digest == digest, Token.kind == kind, _is_live()))


def use_up_token(session: Session, digest: str, kind: str) -> int | None:
    """The account of a live token, which is gone with this."""
    gone = delete(Token).where(Token.digest == digest, Token.kind == kind, Token.ends_at > func.now())
    return session.execute(gone.returning(Token.account_id)).scalar_one_or_none()


def has_token(session: Session, digest: str, kind: str, project: str | None = None) -> bool:
    """Whether a live token of this kind, and of a project when one is named, has this digest."""
    query = select(Token.digest).where(Token.digest == digest, Token.kind == kind, _is_live())
    if project is not None:
        query = query.join(Project, Project.id == Token.project_id).where(Project.name == project)
    return session.scalar(query) is not None


@dataclass(frozen=True, slots=True)
class ShownPass:
    """What a runner's token is, beside the runner whose work is asked for."""

    own: str | None  # the one name it is for; None: the shared token
    projects: list[int] | None
    name: str | None  # of the runner that is asked for, without its start; None when it is not there
    owned: bool  # that name has a token of its own


def pass_with(session: Session, digest: str, runner_id: int | None) -> ShownPass | None:
    """A runner's token, its own or the shared one, by its digest: one statement, as every claim asks it."""
    plain, other = func.split_part(Runner.name, "~", 1), aliased(Token)  # one that leaves has its start behind its name
    owned = select(other.digest).where(other.runner == plain).exists()
    query = select(Token.runner, Token.projects, plain, owned).outerjoin(Runner, Runner.id == runner_id)
    row = session.execute(query.where(Token.digest == digest, Token.kind == "runner", _is_live())).one_or_none()
    return ShownPass(row[0], row[1], row[2], bool(row[3])) if row is not None else None


def passes(session: Session) -> Sequence[Token]:
    """The tokens that runners have of their own, by name."""
    return session.scalars(select(Token).where(Token.runner.is_not(None)).order_by(Token.runner)).all()


def has_pass(session: Session, runner: str) -> bool:
    """Whether a runner of this name has a token of its own."""
    return session.scalar(select(Token.digest).where(Token.runner == runner)) is not None


def forget_pass(session: Session, runner: str) -> bool:
    """Whether a runner had a token of its own; it is gone with this."""
    gone = session.execute(delete(Token).where(Token.runner == runner).returning(Token.digest))
    return gone.scalar_one_or_none() is not None


def note_use(session: Session, runner: str) -> None:
    session.execute(update(Token).where(Token.runner == runner).values(used_at=func.now()))


def revoke_shared(session: Session, kind: str) -> None:
    """Tokens of a kind that name nobody are worth nothing more."""
    session.execute(delete(Token).where(Token.kind == kind, Token.runner.is_(None)))


def _is_live() -> ColumnElement[bool]:
    return or_(Token.ends_at.is_(None), Token.ends_at > func.now())
