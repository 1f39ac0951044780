"""Releases: what lies behind the verdict of runs, what they made, who approved it, and what is live."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from sqlalchemy.orm import Session

from myriant.core.release.signing import key_of, public_part
from myriant.core.release.statement import Subject, envelope, statement
from myriant.core.states import State, Verdict
from myriant.core.written import counted
from myriant.flow.errors import Refused
from myriant.flow.naming import the_project, the_run
from myriant.flow.site import Site
from myriant.flow.views.lines import RunLine, run_line, so_far
from myriant.flow.views.words import words_of
from myriant.repos.git import GitError
from myriant.store.attempts import attempts_of
from myriant.store.cells import cells_of, cells_of_runs
from myriant.store.releases import Made, made_in, newest_released, runs_with_releases
from myriant.store.runs import approvals_of
from myriant.store.tables import Attempt, Cell, Run

MOST_CARDS = 60
MOST_NOTES = 50


@dataclass(frozen=True, slots=True)
class MadeView:
    """A file that the run made, by its digest."""

    job: str
    key: str
    path: str
    digest: str
    size: int
    report: int | None  # None: it is kept no more


@dataclass(frozen=True, slots=True)
class ProvenView:
    """A file that had to be found where it was brought."""

    path: str
    digest: str
    found: bool


@dataclass(frozen=True, slots=True)
class TargetView:
    """A job behind the verdict: how it stands in this run, who approved it, and whether it is what is live."""

    job: str
    title: str
    state: str
    reason: str
    approval: str  # waiting, given, refused, late; empty where none is wanted
    by: str
    because: str
    at: datetime | None  # when its last attempt ended
    live: bool
    attempt: int | None
    proof: list[ProvenView]  # what was looked for at the target


@dataclass(frozen=True, slots=True)
class ReleaseCard:
    run: RunLine
    version: str  # the tag, or the commit
    notes: list[str]  # titles of the commits since the card before
    more_notes: int
    made: list[MadeView]
    targets: list[TargetView]
    may_release: bool  # its verdict is clear


@dataclass(frozen=True, slots=True)
class LiveNow:
    """What a job behind the verdict brought out last."""

    job: str
    title: str
    run: int
    version: str
    at: datetime


@dataclass(frozen=True, slots=True)
class Releases:
    said: str
    live: list[LiveNow]
    cards: list[ReleaseCard]


def releases_of(site: Site, name: str) -> Releases:
    """The newest runs with something behind their verdict, and what is live. Raises NotFound."""
    with site.store.view() as session:
        project = the_project(session, name)
        runs = runs_with_releases(session, project.id, MOST_CARDS)
        words = words_of(session, project.id, {r.commit for r in runs})
        far = so_far(session, runs)
        every = cells_of_runs(session, [r.id for r in runs])
        behind: dict[int, list[Cell]] = {r.id: [] for r in runs}
        for cell in every:
            if cell.gated and cell.selected and not cell.housekeeping:
                behind[cell.run_id].append(cell)
        newest = newest_released(session, project.id)
        made: dict[int, list[Made]] = {}
        for one in made_in(session, [r.id for r in runs]):
            made.setdefault(one.run_id, []).append(one)
        cards = [
            ReleaseCard(
                run_line(r, words[r.commit], far.get(r.id, "")),
                r.tag or r.commit[:7],
                [],
                0,
                [_made(m) for m in made.get(r.id, ())],
                _targets(session, r, behind[r.id], newest),
                r.verdict is Verdict.CLEAR,
            )
            for r in runs
        ]
        titles = {c.job: c.job_title for cells in behind.values() for c in cells}
        tags = {r.number: r.tag or r.commit[:7] for r in runs}
        live = [
            LiveNow(job, titles.get(job, job), number, tags.get(number, f"#{number}"), at)
            for job, (number, at) in newest.items()
        ]
        mirror = site.mirror(project)
        commits = [r.commit for r in runs]
    told = []
    for i, card in enumerate(cards):
        notes: list[str] = []
        before = next((c for c in commits[i + 1 :] if c != card.run.commit), None)
        try:
            between = mirror.between(before, card.run.commit, MOST_NOTES + 1) if before else []
            notes = [card.run.title, *(c.title for c in between)] if before else []
        except GitError:
            notes = []  # history was rewritten
        more = max(0, len(notes) - MOST_NOTES)
        told.append(
            ReleaseCard(card.run, card.version, notes[:MOST_NOTES], more, card.made, card.targets, card.may_release)
        )
    return Releases(_said(live, told), live, told)


def _said(live: Sequence[LiveNow], cards: Sequence[ReleaseCard]) -> str:
    if not cards:
        return "Nothing lies behind the verdict here: no job of the plan says gated = true."
    waiting = sum(t.approval == "waiting" for c in cards for t in c.targets)
    lines = [f"{one.title} has {one.version} (#{one.run})" for one in live]
    parts = [". ".join(lines) if lines else "Nothing was released yet"]
    if waiting:
        parts.append(f"{counted(waiting, 'approval')} {'is' if waiting == 1 else 'are'} waited for")
    return ". ".join(parts) + "."


def _made(m: Made) -> MadeView:
    return MadeView(m.job, m.key, m.path, m.digest, m.size, m.report if m.kept else None)


def _targets(
    session: Session, run: Run, cells: Sequence[Cell], newest: dict[str, tuple[int, datetime]]
) -> list[TargetView]:
    words = {a.job: a for a in approvals_of(session, run.id)}
    attempts = attempts_of(session, cells)
    rows = []
    for cell in cells:
        word, attempt = words.get(cell.job), attempts.get(cell.attempt_id or 0)
        rows.append(
            TargetView(
                cell.job,
                f"{cell.job_title} {cell.key}".strip(),
                cell.state,
                cell.reason,
                word.state if word else "",
                word.by if word else "",
                word.reason if word else "",
                attempt.ended_at if attempt else None,
                cell.state is State.PASSED and newest.get(cell.job, (0,))[0] == run.number,
                cell.attempt_id,
                [ProvenView(**row) for row in attempt.proof or ()] if attempt else [],
            )
        )
    return rows


# --- statements --------------------------------------------------------------------------------------


def public_key(site: Site) -> str:
    """By which anybody can see that a statement is this installation's; hexadecimal."""
    return public_part(key_of(site.key()))


def attested(site: Site, name: str, number: int) -> dict[str, object]:
    """A signed statement of what a clear run tested and made. Raises NotFound, Refused."""
    with site.store.view() as session:
        project = the_project(session, name)
        run = the_run(session, project, number)
        if run.verdict is not Verdict.CLEAR or run.ended_at is None:
            raise Refused(f"#{number} is not clear, so nothing is said for what it made", "take a run that is clear")
        cells = cells_of(session, run.id)
        attempts = attempts_of(session, cells)
        made = made_in(session, [run.id])
        binding = [c for c in cells if c.selected and not c.gated]
        said = statement(
            [Subject(m.path, m.digest) for m in made],
            {
                "project": name,
                "commit": run.commit,
                "tested": run.tested or run.commit,
                "tree": run.tree,
                "tag": run.tag,
                "branch": run.branch,
                "context": run.context,
                "run": number,
                "address": site.run_address(name, number),
                "verdict": str(run.verdict),
                "sentence": run.sentence,
                "plan": run.plan_digest,
                "endedAt": run.ended_at.astimezone(UTC).isoformat(),
                "cells": [_cell(c, attempts) for c in binding],
                "approvals": [
                    {"job": a.job, "state": str(a.state), "by": a.by, "reason": a.reason}
                    for a in approvals_of(session, run.id)
                ],
            },
        )
    key = key_of(site.key())
    key_id = hashlib.sha256(bytes.fromhex(public_part(key))).hexdigest()
    return envelope(said, key.sign, key_id)


def _cell(cell: Cell, attempts: Mapping[int, Attempt]) -> dict[str, object]:
    attempt = attempts.get(cell.attempt_id or 0)
    return {
        "job": cell.job,
        "cell": cell.key,
        "state": str(cell.state),
        "advisory": cell.advisory,
        "runner": attempt.runner if attempt else "",
        "runtimes": attempt.runtimes if attempt else {},
    }
