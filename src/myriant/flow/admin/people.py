"""People and their ways in: one-time links, sessions, tokens of commands, runners and hooks."""

from __future__ import annotations

import hashlib
import secrets
from datetime import UTC, datetime, timedelta

from sqlalchemy.orm import Session

from myriant.flow.errors import NotFound
from myriant.flow.site import Site
from myriant.flow.who import Person
from myriant.store.people import account_named, account_of_token, has_token, revoke_shared, use_up_token
from myriant.store.tables import Account, Token

LINK = timedelta(hours=1)


SESSION = timedelta(days=30)


def ensure_account(site: Site, name: str, role: str) -> int:
    with site.store.transaction() as session:
        account = account_named(session, name)
        if account is None:
            account = Account(name=name, role=role)
            session.add(account)
            session.flush()
        return account.id


def make_token(
    session: Session,
    kind: str,
    *,
    account: int | None = None,
    project: int | None = None,
    lasts: timedelta | None = None,
) -> str:
    """A new secret of this kind; only its digest is kept."""
    token = secrets.token_urlsafe(32)
    ends = datetime.now(UTC) + lasts if lasts else None
    session.add(Token(digest=digest_of(token), kind=kind, account_id=account, project_id=project, ends_at=ends))
    return token


def sign_in_link(site: Site, account: int) -> str:
    """An address that signs its first visitor in, within the hour."""
    with site.store.transaction() as session:
        return f"{site.address}/sign-in#{make_token(session, 'link', account=account, lasts=LINK)}"


def sign_in(site: Site, link: str) -> str:
    """Take a one-time link's token; a session's token. Raises NotFound when it was used or is too old."""
    with site.store.transaction() as session:
        used = use_up_token(session, digest_of(link), "link")
        if used is None:
            raise NotFound("this sign-in link was used already or is too old", "run: myriant sign-in")
        return make_token(session, "session", account=used, lasts=SESSION)


def person_of(site: Site, token: str, kind: str) -> Person | None:
    """Whose session or command token this is."""
    with site.store.transaction() as session:
        account = account_of_token(session, digest_of(token), kind)
        return Person(account.id, account.name, account.role) if account is not None else None


def is_token_of(site: Site, token: str, kind: str, project: str | None = None) -> bool:
    """Whether this is a live token of a runner, or of a project's hook."""
    with site.store.transaction() as session:
        return has_token(session, digest_of(token), kind, project)


def digest_of(token: str) -> str:
    return hashlib.sha256(token.encode()).hexdigest()


def new_runner_token(site: Site, *, revoke: bool) -> str:
    """A token for any runner without one of its own; `revoke` takes the right from all such that were given before."""
    with site.store.transaction() as session:
        if revoke:
            revoke_shared(session, "runner")
        return make_token(session, "runner")
