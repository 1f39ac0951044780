"""Caches: archives kept between attempts, by what they depend on, for those who may trust them."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import func
from sqlalchemy.orm import Session

from myriant.core.states import EventKind
from myriant.flow.compare.grants import is_strangers
from myriant.flow.errors import NotFound
from myriant.flow.files import take_file
from myriant.flow.site import Site
from myriant.flow.state.leases import held
from myriant.store.attempts import run_number_of_attempt
from myriant.store.caches import cache_entries, take_in_cache
from myriant.store.tables import Attempt, CacheEntry, Cell, Project, Run


def find_cache(site: Site, attempt_id: int, token: str, name: str, parts: Mapping[str, Any]) -> CacheAnswer:
    with site.store.transaction() as session:
        return nearest_entry(session, held(session, attempt_id, token), name, parts)


def cache_archive(site: Site, attempt_id: int, token: str, entry: int) -> Iterable[bytes]:
    with site.store.transaction() as session:
        return archive_of(site, session, held(session, attempt_id, token), entry)


def keep_cache(
    site: Site, attempt_id: int, token: str, name: str, told: Mapping[str, Any], chunks: Iterable[bytes], digest: str
) -> str:
    with site.store.transaction() as session:
        held(session, attempt_id, token)
    return take_cache(site, attempt_id, name, told, chunks, digest)


MOST_ENTRY = 5 << 30


@dataclass(frozen=True, slots=True)
class CacheAnswer:
    """An entry, or why there is none."""

    entry: int | None = None
    digest: str = ""
    size: int = 0
    seconds: dict[str, float] = field(default_factory=dict)
    said: str = ""


def scopes(session: Session, run: Run) -> list[str]:
    """Whose entries a run may be given, the nearest first; it saves in the first only.

    So what a pull request saves is never given to a branch, and a branch's never to the main line.
    """
    main = session.get_one(Project, run.project_id).main_branch
    if run.event == EventKind.PULL_REQUEST:
        own = f"pull request {run.pull_request}" if run.batch_id is None else f"batch {run.batch_id}"
        return list(dict.fromkeys([own, f"branch {run.branch}", f"branch {main}"]))
    return list(dict.fromkeys([f"branch {run.branch}", f"branch {main}"]))


def _digest(parts: Mapping[str, Any]) -> str:
    return hashlib.sha256(json.dumps(parts, sort_keys=True).encode()).hexdigest()


def nearest_entry(session: Session, attempt: Attempt, name: str, parts: Mapping[str, Any]) -> CacheAnswer:
    """The nearest entry with exactly these parts, or what differs from the newest one."""
    run, job = _run_and_job(session, attempt)
    order = scopes(session, run)
    rows = cache_entries(session, run.project_id, order, job, name)
    key = _digest(parts)
    exact = sorted((r for r in rows if r.key == key), key=lambda r: order.index(r.scope))
    if exact:
        entry = exact[0]
        entry.used_at, entry.uses = func.now(), entry.uses + 1
        by = run_number_of_attempt(session, entry.attempt_id)
        said = f"saved by #{by} on {entry.scope}"
        return CacheAnswer(entry.id, entry.digest, entry.size, entry.seconds, said)
    if not rows:
        return CacheAnswer(said="nothing was saved yet; it is when this attempt passes")
    return CacheAnswer(said=_difference(rows[0].parts, parts))


def _difference(kept: Mapping[str, Any], wanted: Mapping[str, Any]) -> str:
    """Why the newest entry does not fit."""
    old, new = kept.get("renew", {}), wanted.get("renew", {})
    changed = sorted(f for f in old.keys() | new.keys() if old.get(f) != new.get(f))
    if changed:
        return f"{', '.join(changed[:5])} changed since it was saved"
    before, now = kept.get("runtimes", {}), wanted.get("runtimes", {})
    for family in sorted(before.keys() | now.keys()):
        if before.get(family) != now.get(family):
            return f"it was saved with {family} {before.get(family, '(none)')}, this is {now.get(family, '(none)')}"
    if kept.get("system") != wanted.get("system"):
        return f"it was saved on {kept.get('system')}, this is {wanted.get('system')}"
    return "what it keeps was changed in the plan"


def archive_of(site: Site, session: Session, attempt: Attempt, entry_id: int) -> Iterable[bytes]:
    """The archive of an entry that an attempt may be given. Raises NotFound."""
    run, job = _run_and_job(session, attempt)
    entry = session.get(CacheEntry, entry_id)
    if (
        entry is None
        or entry.job != job
        or entry.project_id != run.project_id
        or entry.scope not in scopes(session, run)
    ):
        raise NotFound("this cache is not kept any more, or not for this attempt")
    return site.blobs.chunks(entry.blob)


def take_cache(
    site: Site, attempt_id: int, name: str, told: Mapping[str, Any], chunks: Iterable[bytes], digest: str
) -> str:
    """Take an archive in, to be kept should the attempt pass; what became of it. Raises BadInput."""
    blob = f"caches/{attempt_id}/{hashlib.sha256(name.encode()).hexdigest()[:16]}"
    size = take_file(site, blob, chunks, digest, MOST_ENTRY, "a cache")
    with site.store.transaction() as session:
        attempt = session.get_one(Attempt, attempt_id)
        run, job = _run_and_job(session, attempt)
        if is_strangers(session, run):
            site.blobs.remove(blob)
            return "a stranger's pull request saves nothing"
        parts = dict(told["key"])
        values = {
            "project_id": run.project_id,
            "scope": scopes(session, run)[0],
            "job": job,
            "name": name,
            "key": _digest(parts),
            "parts": parts,
            "attempt_id": attempt_id,
            "seconds": dict(told["seconds"]),
            "digest": digest,
            "size": size,
            "blob": blob,
            "kept": False,
        }
        kept = take_in_cache(session, values)
    if not kept:
        site.blobs.remove(blob)
        return "another attempt has saved the same already"
    return f"{size:,} bytes are kept if this attempt passes"


def _run_and_job(session: Session, attempt: Attempt) -> tuple[Run, str]:
    cell = session.get_one(Cell, attempt.cell_id)
    return session.get_one(Run, cell.run_id), cell.job
