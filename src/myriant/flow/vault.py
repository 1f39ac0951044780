"""The vault: secrets of projects, sealed with a key that is not in the database (AES-256-GCM, NIST SP 800-38D)."""

from __future__ import annotations

import os
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from myriant.core.plan.globs import matches
from myriant.core.plan.model import Job
from myriant.flow.errors import BadInput, NotFound
from myriant.flow.people import Person
from myriant.flow.plans import plan_of
from myriant.flow.site import Site
from myriant.store.runs import project_named
from myriant.store.tables import Project, Run, Secret

SHORTEST, LONGEST = 6, 64 * 1024
_NAME = re.compile(r"[A-Z][A-Z0-9_]{0,99}")
_EVENTS = ("push", "pull-request", "tag", "schedule", "manual")
_NONCE = 12


@dataclass(frozen=True, slots=True)
class SecretView:
    """A secret as anybody sees it: never its value."""

    name: str
    jobs: list[str]
    events: list[str]
    branches: list[str]
    set_by: str
    set_at: datetime
    used_at: datetime | None
    used_by: str
    readable: bool  # with the key that is in force


def make_key(file: Path) -> None:
    """Make the installation's key, once; readable by its owner only."""
    if not file.exists():
        part = file.with_suffix(".part")
        part.touch(mode=0o600)
        part.write_bytes(AESGCM.generate_key(256))
        part.replace(file)


def _seal(site: Site, project: int, name: str, value: str) -> bytes:
    nonce = os.urandom(_NONCE)
    return nonce + AESGCM(site.key()).encrypt(nonce, value.encode(), f"{project}/{name}".encode())


def _open(site: Site, secret: Secret) -> str | None:
    nonce, sealed = secret.sealed[:_NONCE], secret.sealed[_NONCE:]
    try:
        opened = AESGCM(site.key()).decrypt(nonce, sealed, f"{secret.project_id}/{secret.name}".encode())
    except InvalidTag:
        return None
    return opened.decode()


def set_secret(
    site: Site, project_name: str, name: str, value: str, who: Person, *,
    jobs: Sequence[str] = (), events: Sequence[str] = (), branches: Sequence[str] = (),
) -> None:  # fmt: skip
    """Keep a value, or put a new one in place of the old. Raises BadInput."""
    if not _NAME.fullmatch(name) or name.startswith("MYRIANT") or name in ("PATH", "HOME", "CI"):
        raise BadInput(f"{name[:80]} is no name for a secret", "capitals, digits and _, such as TIDE_API_KEY")
    if len(value.strip()) < SHORTEST:
        raise BadInput(
            f"a secret has at least {SHORTEST} characters: a shorter one cannot be masked in logs",
            "choose a longer one",
        )
    if len(value.encode("utf-8", "surrogatepass")) > LONGEST or "\0" in value:
        raise BadInput(
            f"a secret is text of at most {LONGEST:,} bytes without zero bytes", "keep large files elsewhere"
        )
    unknown = [e for e in events if e not in _EVENTS]
    if unknown:
        raise BadInput(f"there is no event {unknown[0][:40]}", f"known: {', '.join(_EVENTS)}")
    with site.store.transaction() as session:
        project = _project(session, project_name)
        session.merge(
            Secret(
                project_id=project.id, name=name, sealed=_seal(site, project.id, name, value), jobs=list(jobs),
                events=list(events), branches=list(branches), set_by=who.name, set_at=func.now(),
            )
        )  # fmt: skip


def remove_secret(site: Site, project_name: str, name: str) -> None:
    with site.store.transaction() as session:
        found = session.get(Secret, (_project(session, project_name).id, name))
        if found is None:
            raise NotFound(f"there is no secret {name[:80]}")
        session.delete(found)


def secrets_of(site: Site, project_name: str) -> list[SecretView]:
    with site.store.transaction() as session:
        project = _project(session, project_name)
        rows = session.scalars(select(Secret).where(Secret.project_id == project.id).order_by(Secret.name))
        return [
            SecretView(
                s.name,
                s.jobs,
                s.events,
                s.branches,
                s.set_by,
                s.set_at,
                s.used_at,
                s.used_by,
                _open(site, s) is not None,
            )
            for s in rows
        ]


def rotate_key(site: Site, new: Path) -> int:
    """Seal every secret anew with the key in `new`; how many. The caller puts that key in force afterwards."""
    with site.store.transaction() as session:
        found = session.scalars(select(Secret).with_for_update()).all()
        fresh = Site(site.store, site.blobs, site.mirrors, site.address, new)
        for secret in found:
            value = _open(site, secret)
            if value is not None:
                secret.sealed = _seal(fresh, secret.project_id, secret.name, value)
        return len(found)


def names_wanted(job: Job) -> list[str]:
    """The secrets that a job or one of its steps asks for."""
    return list(dict.fromkeys([*job.secrets, *(n for step in job.steps for n in step.secrets)]))


def withheld(secret: Secret | None, name: str, run: Run, job: str) -> str:
    """Why a job is not given a secret, empty when it is."""
    if secret is None:
        return f"the project has no secret {name}"
    if secret.jobs and job not in secret.jobs:
        return f"the secret {name} is not for job {job}"
    events = secret.events or [e for e in _EVENTS if e != "pull-request"]
    if run.event not in events:
        return f"the secret {name} is not given to {run.event} events"
    branch = run.source if run.event == "pull-request" else run.branch
    if secret.branches and not any(matches("/" + b, branch) for b in secret.branches):
        return f"the secret {name} is not given to branch {branch}"
    return ""


def lacking(session: Session, run: Run, job: Job) -> str:
    """Why a job cannot have the secrets it asks for, known before anything runs; empty when it can."""
    wanted = names_wanted(job)
    if not wanted:
        return ""
    rows = session.scalars(select(Secret).where(Secret.project_id == run.project_id, Secret.name.in_(wanted)))
    known = {s.name: s for s in rows}
    refused = [withheld(known.get(n), n, run, job.id) or _ungranted(n, run, job.id) for n in wanted]
    return "; ".join(filter(None, refused))


def _ungranted(name: str, run: Run, job: str) -> str:
    """Why the target's plan keeps a secret from a pull request: a change cannot ask for more than is granted there."""
    if run.event != "pull-request":
        return ""
    target = plan_of(run.rules) if run.rules else None
    granted = next((j for j in target.jobs if j.id == job), None) if target is not None else None
    if granted is not None and name in names_wanted(granted):
        return ""
    return f"the plan on {run.branch} gives job {job} no secret {name}"


def values_for(site: Site, session: Session, run: Run, job: Job) -> Mapping[str, str]:
    """The secrets of a lease, with their use noted."""
    names = [n for n in names_wanted(job) if not _ungranted(n, run, job.id)]
    found: dict[str, str] = {}
    if not names:
        return found
    for secret in session.scalars(
        select(Secret).where(Secret.project_id == run.project_id, Secret.name.in_(names)).with_for_update()
    ):
        value = None if withheld(secret, secret.name, run, job.id) else _open(site, secret)
        if value is not None:
            found[secret.name] = value
            secret.used_at, secret.used_by = func.now(), f"#{run.number} {job.id}"
    return found


def _project(session: Session, name: str) -> Project:
    project = project_named(session, name)
    if project is None:
        raise NotFound(f"there is no project {name!r}")
    return project
