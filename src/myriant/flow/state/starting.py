"""Starting: a run is made at once, and planned next."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy.orm import Session

from myriant.core.gate.contexts import EVIDENCE, Context
from myriant.core.states import EventKind, State, Verdict
from myriant.repos.mirror import Commit, Mirror
from myriant.store.changes import tell
from myriant.store.projects import branch_at, next_run_number
from myriant.store.queue import defer
from myriant.store.runs import deepest_on, seconds_of_pull
from myriant.store.tables import Project, PullRequest, Run


def start_run(
    session: Session,
    project: Project,
    *,
    event: EventKind,
    context: Context | None,
    branch: str,
    commit: str,
    **more: Any,
) -> int:
    """Make a run that is planned next; its number. Without a context it is evidence, not a verdict."""
    number = next_run_number(session, project.id)
    run = Run(
        project_id=project.id,
        number=number,
        event=event,
        context=str(context or EVIDENCE),
        branch=branch,
        depth=deepest_on(session, project.id, branch) + 1,  # until the commit is read
        commit=commit,
        state=State.WAITING,
        verdict=Verdict.UNDECIDED,
        reason="reading the plan",
        **more,
    )
    session.add(run)
    session.flush()
    defer(session, "plan", lock=f"project-{project.id}", priority=10, run_id=run.id)
    tell(session, "run", project.name, number)
    return number


def start_pull_request(session: Session, project: Project, pull: PullRequest) -> int | None:
    """Make a run for a pull request at the heads of its branches as they were last seen; None without them, and for a
    stranger's at a head that no maintainer has let run, or whose minutes are spent.
    """
    if project.paused or (pull.stranger and minutes_spent(session, project, pull)):
        return None
    source = branch_at(session, project.id, pull.source)
    target = branch_at(session, project.id, pull.target)
    if source is None or target is None or (pull.stranger and pull.allowed != source):
        return None
    return start_run(
        session,
        project,
        event=EventKind.PULL_REQUEST,
        context=Context(EventKind.PULL_REQUEST, str(pull.number)),
        branch=pull.target,
        commit=source,
        source=pull.source,
        base=target,
        pull_request=pull.number,
    )


def minutes_spent(session: Session, project: Project, pull: PullRequest) -> bool:
    """Whether a stranger's pull request has taken all the minutes of runners that it may."""
    most = project.stranger_minutes
    return most is not None and seconds_of_pull(session, project.id, pull.number) >= most * 60


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
    run.author, run.author_mail = commit.author, commit.mail


def branch_of(mirror: Mirror, main: str, wanted: str, commit: str) -> str:
    """The branch that a commit is on: the one that was named, else the main one, else any; empty without one."""
    heads = mirror.branches()
    order = [b for b in (wanted, main) if b in heads]
    order += sorted(b for b in heads if b not in order)
    return next((b for b in order if heads[b] == commit or mirror.is_ancestor(commit, heads[b])), "")
