"""Announce: the verdict is written on the commit."""

from __future__ import annotations

import logging

from sqlalchemy import func
from sqlalchemy.orm import Session

from myriant.core.gate.note import NotedBlock, ProjectSays, block, blocks_elsewhere, commit_note, context_said
from myriant.core.gate.word import newest_of_each, word
from myriant.core.states import Verdict
from myriant.core.written import plain
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.store.changes import tell
from myriant.store.judged import verdicts_of_commits
from myriant.store.projects import projects_beside
from myriant.store.runs import newest_run_of, runs_numbered
from myriant.store.tables import Project, Run

_log = logging.getLogger(__name__)
_OUTCOMES = (Verdict.CLEAR, Verdict.HELD, Verdict.EXEMPT)


def announce_run(site: Site, run_id: int) -> None:
    """Write the commit note into the repository: a block for each project and context. Twice writes the same note."""
    with site.store.transaction() as session:
        run = session.get(Run, run_id)
        if run is None or run.batch_id is not None:  # the repository has no such commit
            return
        project = session.get_one(Project, run.project_id)
        if _says(site, session, project, run) is None:
            return  # what was never said need not be taken back
    trouble, text = None, ""
    try:
        mirror = site.mirror(project)
        text = mirror.note(run.commit, lambda noted: _composed(site, run_id, noted))
        if project.pull_refs and run.pull_request is not None and run.verdict in _OUTCOMES:
            mirror.tell_outcome(run.pull_request, run.commit, run.verdict, _OUTCOMES)
    except GitError as error:
        trouble = str(error)
        _log.warning("the note on %s could not be written: %s", run.commit, error)
    with site.store.transaction() as session:
        run = session.get_one(Run, run_id)
        run.note_trouble = trouble
        if trouble is None:
            run.noted, run.noted_at = text, func.now()
        tell(session, "run", project.name, run.number)
    if trouble is not None:
        raise NotWritten(trouble)


def _composed(site: Site, run_id: int, noted: str) -> str:
    """The note as all projects that watch the repository want it now, with what others wrote from elsewhere."""
    with site.store.view() as session:
        run = session.get_one(Run, run_id)
        project = session.get_one(Project, run.project_id)
        said = [_says(site, session, project, run)]
        for other in projects_beside(session, project):
            newest = newest_run_of(session, other.id, run.commit)
            if newest is not None:
                said.append(_says(site, session, other, newest))
        return plain(commit_note([s for s in said if s is not None], blocks_elsewhere(noted, site.address)))


def _says(site: Site, session: Session, project: Project, run: Run) -> ProjectSays | None:
    """What a project says of the commit of a run; None where it says nothing that a note must hold."""
    said = verdicts_of_commits(session, project.id, [run.commit]).get(run.commit, [])
    every = newest_of_each(said)
    rows = runs_numbered(session, project.id, {s.number for s in every})
    decided = [rows[s.number] for s in every if s.verdict is not Verdict.UNDECIDED]
    if not decided and run.verdict is not Verdict.NONE and run.noted is None:
        return None
    blocks = [
        NotedBlock(project.name, context_said(r.context), Verdict(r.verdict), _block(site, project, r))
        for r in decided or [run]
    ]
    return ProjectSays(project.name, word(said), blocks)


def _block(site: Site, project: Project, run: Run) -> str:
    """What a run says, with what was merged, and how the jobs behind the verdict stand."""
    again = run.verdict is Verdict.UNDECIDED and run.ended_at is None
    lines = (
        (
            (run.note if not again else None)
            or block(
                verdict=run.verdict,
                context=run.context,
                number=run.number,
                address=site.run_address(project.name, run.number),
                said="Undecided: it is tested again." if again else run.sentence or run.reason,
            )
        )
        .rstrip("\n")
        .split("\n")
    )
    if run.base and run.tree:
        lines.insert(2, f"merged: {run.commit[:12]} into {run.branch} at {run.base[:12]}, tree {run.tree[:12]}")
    if run.gated_said:
        lines.append(f"behind the verdict: {run.gated_said}")
    return "\n".join(lines)


class NotWritten(Exception):
    """The note could not be written; the worker tries again later."""
