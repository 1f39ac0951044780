"""The secrets of a lease."""

from __future__ import annotations

from collections.abc import Mapping

from sqlalchemy import func
from sqlalchemy.orm import Session

from myriant.core.plan.model import Job
from myriant.flow.compare.grants import names_wanted, ungranted, withheld
from myriant.flow.sealing import opened
from myriant.flow.site import Site
from myriant.store.secrets import secrets_named
from myriant.store.tables import Run


def values_for(site: Site, session: Session, run: Run, job: Job) -> Mapping[str, str]:
    """The secrets of a lease, with their use noted."""
    names = [n for n in names_wanted(job) if not ungranted(session, n, run, job.id)]
    found: dict[str, str] = {}
    if not names:
        return found
    for secret in secrets_named(session, run.project_id, names, lock=True).values():
        value = (
            None
            if withheld(secret, secret.name, run, job.id)
            else opened(site.key(), run.project_id, secret.name, secret.sealed)
        )
        if value is not None:
            found[secret.name] = value
            secret.used_at, secret.used_by = func.now(), f"#{run.number} {job.id}"
    return found
