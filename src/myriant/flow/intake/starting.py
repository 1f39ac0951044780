"""Starting: a run is made at once, and planned next."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy.orm import Session

from myriant.repos.mirror import Commit
from myriant.store.changes import tell
from myriant.store.queue import defer
from myriant.store.runs import (
    deepest_on,
    next_run_number,
)
from myriant.store.tables import Project, PullRequest, Ref, Run

BRANCH = "refs/heads/"


TAG = "refs/tags/"


def start_run(
    session: Session, project: Project, *, event: str, purpose: str, branch: str, commit: str, **more: Any
) -> int:
    """Make a run that is planned next; its number."""
    number = next_run_number(session, project.id)
    run = Run(
        project_id=project.id,
        number=number,
        event=event,
        purpose=purpose,
        branch=branch,
        depth=deepest_on(session, project.id, branch) + 1,  # until the commit is read
        commit=commit,
        state="waiting",
        verdict="undecided",
        reason=more.pop("reason", "reading the plan"),
        **more,
    )
    session.add(run)
    session.flush()
    defer(session, "plan", lock=f"project-{project.id}", priority=10, run_id=run.id)
    tell(session, "run", project.name, number)
    return number


def start_pull_request(session: Session, project: Project, pull: PullRequest) -> int | None:
    """Make a run for a pull request at the heads of its branches as they were last seen; None without them."""
    source = session.get(Ref, (project.id, BRANCH + pull.source))
    target = session.get(Ref, (project.id, BRANCH + pull.target))
    if source is None or target is None:
        return None
    return start_run(
        session, project, event="pull-request", purpose=f"pull request {pull.number}", branch=pull.target,
        commit=source.commit, source=pull.source, base=target.commit, pull_request=pull.number,
    )  # fmt: skip


@dataclass(frozen=True, slots=True)
class Taken:
    """What came of an event."""

    said: str
    runs: list[int]
    repeated: bool = False


def started_text(numbers: list[int]) -> str:
    return f"started {', '.join(f'#{n}' for n in numbers)}" if numbers else ""


def describe(run: Run, commit: Commit, depth: int) -> None:
    run.tree, run.depth, run.title = commit.tree, depth, commit.title
    run.author, run.author_mail, run.authored_at = commit.author, commit.mail, commit.at
