"""Announce: the verdict is written on the commit."""

from __future__ import annotations

import logging

from sqlalchemy import func

from myriant.core.gate.judge import Verdict
from myriant.core.gate.sentence import commit_note
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.store.changes import tell
from myriant.store.tables import Project, Run

_BEHIND = ("merged:", "behind the verdict:")


_log = logging.getLogger(__name__)


def announce_run(site: Site, run_id: int) -> None:
    """Write the commit note into the repository. Running twice writes the same note."""
    with site.store.transaction() as session:
        run = session.get(Run, run_id)
        if run is None or run.verdict == "undecided" or (run.note is None and run.ended_at is None):
            return
        project = session.get_one(Project, run.project_id)
        text = run.note or commit_note(
            verdict=Verdict(run.verdict), purpose=run.purpose, branch=run.branch, number=run.number,
            address=site.run_address(project.name, run.number), said=run.sentence,
            baseline=None, judged=[], cells=[], new=[],
        )  # fmt: skip
        text = _whole(run, text)
    trouble = None
    try:
        site.mirror(project).note(run.commit, text)
    except GitError as error:
        trouble = str(error)
        _log.warning("the note on %s could not be written: %s", run.commit, error)
    with site.store.transaction() as session:
        run = session.get_one(Run, run_id)
        run.note, run.note_trouble = text, trouble
        if trouble is None:
            run.noted_at = func.now()
        tell(session, "run", project.name, run.number)
    if trouble is not None:
        raise NotWritten(trouble)


def _whole(run: Run, note: str) -> str:
    """The note with what was merged, and how the jobs behind the verdict stand."""
    lines = [line for line in note.rstrip("\n").split("\n") if not line.startswith(_BEHIND)]
    if run.base and run.tree:
        lines.insert(1, f"{_BEHIND[0]} {run.commit[:12]} into {run.branch} at {run.base[:12]}, tree {run.tree[:12]}")
    if run.gated_said:
        lines.append(f"{_BEHIND[1]} {run.gated_said}")
    return "\n".join(lines) + "\n"


class NotWritten(Exception):
    """The note could not be written; the worker tries again later."""
