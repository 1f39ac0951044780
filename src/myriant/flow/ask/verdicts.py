"""What a commit is said to be."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import select

from myriant.flow.site import Site
from myriant.store.runs import (
    newest_run_of_commit,
)
from myriant.store.tables import Project, Run, Untested


@dataclass(frozen=True, slots=True)
class VerdictView:
    project: str
    purpose: str
    verdict: str
    sentence: str
    run: int
    address: str
    final: bool  # nothing more is coming


def verdicts_of(site: Site, commit: str, project_name: str | None) -> list[VerdictView]:
    """The newest verdict of each purpose that a commit has, in each project that watches it."""
    with site.store.transaction() as session:
        newest: dict[tuple[int, str], Run] = {}
        for row in newest_run_of_commit(session, commit):
            newest.setdefault((row.project_id, row.purpose), row)
        views = []
        for row in newest.values():
            owner = session.get_one(Project, row.project_id)
            if project_name in (None, owner.name):
                views.append(
                    VerdictView(
                        owner.name,
                        row.purpose,
                        row.verdict,
                        row.sentence,
                        row.number,
                        site.run_address(owner.name, row.number),
                        row.ended_at is not None,
                    )
                )
        return views


def untested_reasons(site: Site, commit: str, project_name: str | None) -> list[str]:
    """Why a commit without a run has none, in each project that knows."""
    with site.store.transaction() as session:
        rows = session.execute(
            select(Project.name, Untested.reason)
            .join(Untested, Untested.project_id == Project.id)
            .where(Untested.commit == commit)
        )
        return [f"{name}: {reason}" for name, reason in rows if project_name in (None, name)]
