"""Questions about accounts and tokens."""

from __future__ import annotations

from collections.abc import Sequence

from sqlalchemy import ColumnElement, delete, func, or_, select, update
from sqlalchemy.orm import Session

from myriant.store.tables import Account, Project, Token


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


def pass_with(session: Session, digest: str) -> Token | None:
    """A runner's token, its own or the shared one, by its digest."""
    return session.scalar(select(Token).where(Token.digest == digest, Token.kind == "runner", _is_live()))


def passes(session: Session) -> Sequence[Token]:
    """The tokens that runners have of their own, by name."""
    return session.scalars(select(Token).where(Token.runner.is_not(None)).order_by(Token.runner)).all()


def names_with_passes(session: Session) -> set[str]:
    return {name for name in session.scalars(select(Token.runner).where(Token.runner.is_not(None))) if name}


def forget_pass(session: Session, runner: str) -> bool:
    """Whether a runner had a token of its own; it is gone with this."""
    gone = session.execute(delete(Token).where(Token.runner == runner).returning(Token.digest))
    return gone.scalar_one_or_none() is not None


def note_use(session: Session, runner: str) -> None:
    session.execute(update(Token).where(Token.runner == runner).values(used_at=func.now()))


def revoke_tokens(session: Session, kind: str) -> None:
    session.execute(delete(Token).where(Token.kind == kind))


def _is_live() -> ColumnElement[bool]:
    return or_(Token.ends_at.is_(None), Token.ends_at > func.now())
