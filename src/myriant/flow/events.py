"""Events that are told: by another system over HTTP (CloudEvents 1.0 with CDEvents types), or by a person.

An event only says that something happened; what is tested is always what the repository itself holds.
"""

from __future__ import annotations

import hashlib
import hmac
import secrets
from dataclasses import dataclass
from typing import Any

from sqlalchemy import func
from sqlalchemy.orm import Session

from myriant.core.plan.selectors import SelectorError, parse_selector
from myriant.flow.advance import advance, stop_cells, tell_gated
from myriant.flow.errors import BadInput, NotFound, Refused
from myriant.flow.intake import BRANCH, look, named, start_pull_request, start_run
from myriant.flow.people import Person
from myriant.flow.plans import plan_of
from myriant.flow.site import Site
from myriant.repos.git import GitError
from myriant.store.changes import tell
from myriant.store.runs import OPEN, cells_of, run_numbered
from myriant.store.tables import Approval, Project, PullRequest, Ref, SeenEvent

_CHANGE = "dev.cdevents.change."
_BRANCHES = ("dev.cdevents.branch.", "dev.cdevents.repository.")
_OPEN = {"created": "open", "updated": "open", "reviewed": "open", "merged": "merged", "abandoned": "closed"}


@dataclass(frozen=True, slots=True)
class Taken:
    """What came of an event."""

    said: str
    runs: list[int]
    repeated: bool = False


def event_secret(site: Site, project_name: str) -> str:
    """The secret with which a project's events are signed; made when it is first asked for."""
    with site.store.transaction() as session:
        project = named(session, project_name)
        project.event_secret = project.event_secret or secrets.token_urlsafe(32)
        return project.event_secret


def is_signed(site: Site, project_name: str, body: bytes, signature: str) -> bool:
    """Whether `signature` ("sha256=" and the hexadecimal HMAC of the body) was made with the project's secret."""
    with site.store.transaction() as session:
        secret = named(session, project_name).event_secret
    wanted = "sha256=" + hmac.new(secret.encode(), body, hashlib.sha256).hexdigest()
    return bool(secret) and hmac.compare_digest(wanted, signature)


def take_event(site: Site, project_name: str, event: dict[str, Any]) -> Taken:
    """Take a CloudEvent; one that was taken before is answered as before and starts nothing. Raises BadInput."""
    for key in ("id", "source", "type"):
        if not isinstance(event.get(key), str) or not event[key] or len(event[key]) > 1000:
            raise BadInput(f"the event has no {key}", "send a CloudEvent 1.0 in structured mode")
    if event.get("specversion") != "1.0":
        raise BadInput("the event's specversion is not 1.0", 'send specversion = "1.0"')
    with site.store.transaction() as session:
        project = named(session, project_name)
        seen = session.get(SeenEvent, (project.id, event["source"], event["id"]))
        if seen is not None:
            return Taken(seen.said, [], repeated=True)
    kind = event["type"]
    if kind.startswith(_CHANGE):
        taken = _change(site, project_name, kind.removeprefix(_CHANGE).split(".")[0], _subject(event))
    elif kind.startswith(_BRANCHES):
        numbers = look(site, project_name)
        taken = Taken(_started(numbers) or "nothing new in the repository", numbers)
    else:
        raise BadInput(f"{kind[:200]} starts nothing here", f"types that do: {_CHANGE}*, {_BRANCHES[0]}*")
    with site.store.transaction() as session:
        project = named(session, project_name)
        session.merge(SeenEvent(project_id=project.id, source=event["source"], event_id=event["id"], said=taken.said))
    return taken


def _subject(event: dict[str, Any]) -> dict[str, Any]:
    data = event.get("data")
    subject = data.get("subject") if isinstance(data, dict) else None
    content = subject.get("content") if isinstance(subject, dict) else None
    found = {**content} if isinstance(content, dict) else {}
    custom = data.get("customData") if isinstance(data, dict) else None
    if isinstance(custom, dict):
        found |= custom
    if isinstance(subject, dict):
        found.setdefault("id", subject.get("id"))
    return found


def _change(site: Site, project_name: str, what: str, subject: dict[str, Any]) -> Taken:
    state = _OPEN.get(what)
    if state is None:
        raise BadInput(f"a change cannot be {what[:80]}", f"known: {', '.join(_OPEN)}")
    number = str(subject.get("number") or subject.get("id") or "")
    digits = number.rsplit("/", 1)[-1].rsplit("#", 1)[-1]
    if not digits.isdigit() or len(digits) > 9:
        raise BadInput("the change has no number", "give it as subject.content.number, or end subject.id with it")
    source, target = _branch(subject, "source"), _branch(subject, "target")
    return change_pull_request(
        site, project_name, int(digits), source=source, target=target, title=str(subject.get("title") or ""),
        author=str(subject.get("author") or ""), state=state,
    )  # fmt: skip


def _branch(subject: dict[str, Any], key: str) -> str | None:
    value = subject.get(key) or subject.get(f"{key}Branch")
    return str(value).removeprefix(BRANCH)[:500] if value else None


def change_pull_request(
    site: Site, project_name: str, number: int, *, source: str | None = None, target: str | None = None,
    title: str = "", author: str = "", state: str = "open",
) -> Taken:  # fmt: skip
    """Open, update or end a pull request; one that is open is tested as its branches stand now. Raises BadInput."""
    numbers = look(site, project_name)
    with site.store.transaction() as session:
        project = named(session, project_name)
        pull = session.get(PullRequest, (project.id, number), with_for_update=True)
        if pull is None:
            if state != "open":
                return Taken(f"pull request {number} was not known", numbers)
            if not source:
                raise BadInput(f"pull request {number} is not known and names no source", "name its source and target")
            pull = PullRequest(
                project_id=project.id,
                number=number,
                source=source,
                target=target or project.main_branch,
                title=title[:500],
                author=author[:200],
                state="open",
            )
            session.add(pull)
        else:
            pull.source, pull.target = source or pull.source, target or pull.target
            pull.title, pull.state = title[:500] or pull.title, state
        session.flush()
        if state != "open":
            return Taken(f"pull request {number} is {state}", numbers)
        if pull.source == pull.target:
            raise BadInput(f"{pull.source} cannot be merged into itself", "name another target")
        for branch in (pull.source, pull.target):
            if session.get(Ref, (project.id, BRANCH + branch)) is None:
                raise BadInput(f"the repository has no branch {branch[:200]}", "push it first")
        made = numbers or []
        if not any(_is_of(session, project, n, number) for n in made):
            begun = start_pull_request(session, project, pull)
            made = [*made, *([begun] if begun is not None else [])]
    return Taken(_started(made), made)


def _is_of(session: Session, project: Project, number: int, pull: int) -> bool:
    run = run_numbered(session, project.id, number)
    return run is not None and run.pull_request == pull


def _started(numbers: list[int]) -> str:
    return f"started {', '.join(f'#{n}' for n in numbers)}" if numbers else ""


def start_by_hand(
    site: Site, project_name: str, *, ref: str = "", jobs: list[str] | None = None, cells: str = "", by: str = ""
) -> Taken:
    """Test a branch, tag or commit because a person says so, all of it or some jobs or cells. Raises BadInput."""
    if cells:
        try:
            parse_selector(cells)
        except SelectorError as error:
            raise BadInput(str(error), "write for example python<=3.9") from error
    with site.store.transaction() as session:
        project = named(session, project_name)
    mirror = site.mirror(project)
    try:
        mirror.fetch()
    except GitError as error:
        raise BadInput(f"the repository cannot be read: {error}", "is it there, and may the server read it?") from error
    wanted = ref or project.main_branch
    commit = mirror.resolve(wanted)
    if commit is None:
        raise BadInput(f"the repository has no branch, tag or commit {wanted[:200]}", "name one that it has")
    branch = wanted if mirror.resolve(f"refs/heads/{wanted}") == commit else project.main_branch
    wish: dict[str, Any] = {k: v for k, v in (("jobs", jobs), ("cells", cells), ("by", by)) if v}
    with site.store.transaction() as session:
        project = named(session, project_name)
        number = start_run(session, project, event="manual", purpose="manual", branch=branch, commit=commit, wish=wish)
    return Taken(_started([number]), [number])


def give_word(site: Site, project_name: str, number: int, job: str, who: Person, *, given: bool) -> None:
    """Give or refuse the approval that a job waits for. Raises NotFound, Refused."""
    with site.store.transaction() as session:
        project = named(session, project_name)
        run = run_numbered(session, project.id, number)
        word = session.get(Approval, (run.id, job), with_for_update=True) if run is not None else None
        plan = plan_of(run.plan) if run is not None else None
        if run is None or word is None or plan is None:
            raise NotFound(f"#{number} has no job {job[:80]} that waits for an approval")
        wanted = plan.job(job).approval
        if wanted is None or not ({who.name, who.role} & set(wanted.by) or who.may("maintainer")):
            raise Refused(f"{job} waits for the word of {' or '.join(wanted.by) if wanted else 'nobody'}")
        if word.state != "waiting":
            raise Refused(f"the word on {job} is said already: {word.state}")
        word.state, word.by, word.at = ("given" if given else "refused"), who.name, func.now()
        session.flush()
        session.refresh(run, with_for_update=True)
        advance(session, run, plan)
        tell(session, "run", project.name, run.number)


def stop_run(site: Site, project_name: str, number: int, who: Person) -> int:
    """End what of a run still waits or runs; how many cells that were. The verdict says who stopped it."""
    with site.store.transaction() as session:
        project = named(session, project_name)
        run = run_numbered(session, project.id, number)
        if run is None:
            raise NotFound(f"there is no run #{number}")
        open_now = [c for c in cells_of(session, run.id) if c.state in OPEN]
        stop_cells(session, project, run, open_now, f"stopped by {who.name}")
        if open_now and run.ended_at is not None:
            tell_gated(session, run, cells_of(session, run.id))
    return len(open_now)
