"""Projects: which repositories are watched, and how."""

from __future__ import annotations

import re
import sys
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from urllib.parse import urlsplit

from tenacity import Retrying, retry_if_exception, stop_after_attempt

from myriant.flow.admin.people import make_token
from myriant.flow.announce.mornings import times_of
from myriant.flow.errors import BadInput, Refused
from myriant.flow.intake.pulls import start_what_waits
from myriant.flow.intake.refreshing import AT_ONCE
from myriant.flow.intake.refs import remember_branches
from myriant.flow.naming import the_project
from myriant.flow.repositories import main_branch_of, opened, suggested_name, why_refused
from myriant.flow.sealing import seal
from myriant.flow.site import CREDENTIAL, Site
from myriant.flow.state import runs
from myriant.flow.who import Person
from myriant.repos import door
from myriant.repos.git import GitError
from myriant.repos.remote import Remote, heads, is_pull_pattern, without_password
from myriant.settings import settings
from myriant.store.audit import record
from myriant.store.changes import tell
from myriant.store.engine import is_deadlock
from myriant.store.projects import all_projects, project_named, remove_project
from myriant.store.projects import project_names as names
from myriant.store.retention import blobs_of_project
from myriant.store.runs import runs_beside_project, runs_with_notes
from myriant.store.tables import Project

_MOST_NOTES = 500  # that are composed anew when a project goes
_NAME = re.compile(r"[a-z0-9][a-z0-9-]{0,59}")


@dataclass(frozen=True, slots=True)
class Added:
    name: str
    hooked: bool
    chained: bool
    branches: int
    said: str


def add_project(site: Site, address: str, name: str | None = None, description: str = "") -> Added:
    """Watch a repository: by a hook where it lies on this machine, else by polling.

    Nothing runs for what is there already; the next push does. Raises BadInput with the reason when the
    repository cannot be read, Refused when the name is taken.
    """
    remote, branches = opened(address)
    name = name or suggested_name(remote.address)
    if not _NAME.fullmatch(name):
        raise BadInput(f"{name!r} cannot be a project's name", "use --name with small letters, digits and hyphens")
    with site.store.transaction() as session:
        if project_named(session, name) is not None:
            raise Refused(f"there is a project {name} already", "choose another with --name")
        project = Project(
            name=name, description=description, address=remote.address, main_branch=main_branch_of(remote, branches)
        )
        session.add(project)
        session.flush()
        _seal(site, project, remote.password)
        token = make_token(session, "hook", project=project.id)
        tell(session, "project", name)
    remember_branches(site, name)  # before the hook is tried, which has the server look: what is there runs nothing
    hooked, chained, trouble = _hook(site, name, remote, token)
    if hooked:
        with site.store.transaction() as session:
            session.get_one(Project, project.id).hooked = True
    looked_at = f"it is looked at every {settings().poll_seconds:g} s{trouble}"
    how = "every push is heard at once, by a hook" if hooked else looked_at
    return Added(
        name,
        hooked,
        chained,
        sum(b.startswith("refs/heads/") for b in branches),
        how + (", and the hook that was there is kept" if chained else ""),
    )


def _hook(site: Site, name: str, remote: Remote, token: str) -> tuple[bool, bool, str]:
    """Whether the repository has the hook and it was heard, whether another one is kept, and what is in the way."""
    folder = remote.local
    parts = urlsplit(site.address)
    try:
        if folder is None or not door.look(folder).bare:
            return False, False, ""
        chained = door.install(
            folder,
            project=name,
            host=parts.hostname or "127.0.0.1",
            port=parts.port or 80,
            token=token,
            python=sys.executable,
        )
    except OSError as error:
        return False, False, f" (its hooks folder cannot be written: {error.strerror})"
    try:
        trouble = door.ring(folder)
    except OSError as error:
        trouble = f"it could not be rung: {error}"
    return not trouble, chained, f" (its hook was tried, and {trouble})" if trouble else ""


def _seal(site: Site, project: Project, password: str) -> None:
    project.credential = seal(site.key(), project.id, CREDENTIAL, password) if password else None


def set_credential(site: Site, name: str, password: str) -> None:
    """Keep what opens a project's repository, once it is seen to open it; empty takes it away. Raises BadInput."""
    with site.store.transaction() as session:
        address = the_project(session, name).address
    remote = Remote(address, password)
    try:
        heads(remote)
    except GitError as error:
        said = str(error).replace(password, "…") if password else str(error)
        raise BadInput(f"the repository does not open with it: {said}", why_refused(address, said)) from error
    with site.store.transaction() as session:
        _seal(site, the_project(session, name), password)


def seal_passwords(site: Site) -> int:
    """Take passwords out of addresses that an earlier version kept in the clear; how many."""
    count = 0
    with site.store.transaction() as session:
        for project in all_projects(session):
            address, password = without_password(project.address)
            if password:
                project.address, count = address, count + 1
                _seal(site, project, password)
    return count


@dataclass(frozen=True, slots=True)
class Change:
    """What is to be otherwise; None leaves it as it is."""

    name: str | None = None
    description: str | None = None
    paused: bool | None = None
    tracker: str | None = None
    pull_refs: str | None = None
    pull_strangers: bool | None = None
    pull_target: str | None = None
    pull_refresh: str | None = None  # "at once", or a time such as "day 02:00 UTC"; empty: when somebody asks
    stranger_minutes: int | None = None  # 0: no bound any more
    drill: str | None = None  # when its gate is tried, such as "monday 06:00 UTC"; empty: when somebody asks
    budget: int | None = None  # 0: none any more
    event_budgets: Mapping[str, int] | None = None  # of these events; 0: none any more


def change_project(site: Site, name: str, wish: Change, who: Person) -> str:
    """Rename, describe, pause or resume a project; its name now. Raises BadInput, Refused."""
    if wish.tracker and not (wish.tracker.startswith(("http://", "https://")) and "{id}" in wish.tracker):
        raise BadInput("a link pattern is an address with {id} in it", "write for example https://tracker.example/{id}")
    if wish.pull_refs and not is_pull_pattern(wish.pull_refs):
        raise BadInput(
            f"{wish.pull_refs[:80]!r} names no refs of pull requests", "write for example refs/changes/*/head"
        )
    if wish.name is not None and wish.name != name:
        _rename(site, name, wish.name)
    now = wish.name or name
    with site.store.transaction() as session:
        project = the_project(session, now)
        said, resumed = [f"renamed from {name}"] if now != name else [], False
        if wish.description is not None:
            project.description = wish.description.strip()
        if wish.pull_refs is not None and wish.pull_refs != project.pull_refs:
            project.pull_refs = wish.pull_refs
            project.looked_at = None
            said.append(f"pull requests are {wish.pull_refs or 'told, no refs'}")
        if wish.pull_strangers is not None and wish.pull_strangers != project.pull_strangers:
            project.pull_strangers = wish.pull_strangers
            said.append(f"pull requests that are refs {'wait for a word' if wish.pull_strangers else 'run at once'}")
        if wish.pull_target is not None:
            project.pull_target = wish.pull_target
        said += _doors(project, wish)
        if wish.budget is not None and (wish.budget or None) != project.budget:
            project.budget = wish.budget or None
            said.append(f"its budget is {wish.budget:,} minutes a month" if wish.budget else "it has no budget")
        said += _event_budgets(project, wish.event_budgets or {})
        if wish.tracker is not None:
            project.tracker = wish.tracker.strip()
        if wish.paused is not None and wish.paused != project.paused:
            project.paused = wish.paused
            project.looked_at = None if not wish.paused else project.looked_at
            resumed = not wish.paused
            said.append("paused" if wish.paused else "resumed")
        if said:
            record(session, project.id, who.name, "project", ", ".join(said))
        tell(session, "project", now)
    if resumed:
        start_what_waits(site, now)
    return now


def _event_budgets(project: Project, wish: Mapping[str, int]) -> list[str]:
    kept = {event: minutes for event, minutes in {**project.event_budgets, **wish}.items() if minutes}
    if kept == project.event_budgets:
        return []
    project.event_budgets = kept
    return [f"{e}: {f'{m:,} minutes a month' if m else 'no budget'}" for e, m in sorted(wish.items())]


def _doors(project: Project, wish: Change) -> list[str]:
    """When pull requests are tested anew, what strangers' may take, when the gate is tried. Raises BadInput."""
    said, now = [], datetime.now(UTC)
    if wish.pull_refresh is not None and wish.pull_refresh != project.pull_refresh:
        at_time = wish.pull_refresh not in ("", AT_ONCE)
        project.pull_refresh_at = next(times_of(wish.pull_refresh).after(now)) if at_time else None
        project.pull_refresh = wish.pull_refresh
        said.append(f"pull requests are tested anew {wish.pull_refresh or 'when somebody asks for it'}")
    if wish.stranger_minutes is not None and (wish.stranger_minutes or None) != project.stranger_minutes:
        project.stranger_minutes = wish.stranger_minutes or None
        most = f"at most {wish.stranger_minutes:,} minutes" if wish.stranger_minutes else "as many minutes as it needs"
        said.append(f"a stranger's pull request takes {most}")
    if wish.drill is not None and wish.drill != project.drill_words:
        project.drill_at = next(times_of(wish.drill).after(now)) if wish.drill else None
        project.drill_words = wish.drill
        said.append(f"its gate is tried {f'every {wish.drill}' if wish.drill else 'when somebody asks for it'}")
    return said


def _rename(site: Site, name: str, now: str) -> None:
    if not _NAME.fullmatch(now):
        raise BadInput(f"{now!r} cannot be a project's name", "use small letters, digits and hyphens")
    with site.store.transaction() as session:
        project = the_project(session, name)
        if project_named(session, now) is not None:
            raise Refused(f"there is a project {now} already")
        project.name = now
        runs.note_anew(session, runs_with_notes(session, project.id, _MOST_NOTES))
        remote, hooked = site.remote(project), project.hooked
        token = make_token(session, "hook", project=project.id) if hooked else ""
        tell(session, "project", name)
    if hooked and remote.local is not None:
        with suppress(OSError):
            door.remove(remote.local, name)
        heard, _, _ = _hook(site, now, remote, token)
        with site.store.transaction() as session:
            the_project(session, now).hooked = heard


def forget_project(site: Site, name: str) -> None:
    """Remove a project with everything that is kept about it; its repository stays, without our hook."""
    with site.store.transaction() as session:
        project = project_named(session, name)
        folder = site.remote(project).local if project is not None else None
    if folder is not None:
        with suppress(OSError):
            door.remove(folder, name)
    for again in Retrying(retry=retry_if_exception(is_deadlock), stop=stop_after_attempt(8), reraise=True):
        with again, site.store.transaction() as session:  # what goes on in it may hold what is removed, and ends first
            blobs = blobs_of_project(session, project.id) if project is not None else []
            beside = runs_beside_project(session, project, _MOST_NOTES) if project is not None else ()
            remove_project(session, name)
            runs.note_anew(session, beside)
            tell(session, "project", name)
    for blob in blobs:
        site.blobs.remove(blob)


def project_names(site: Site, *, due_after: float | None = None) -> list[str]:
    """Names of all projects; with `due_after`, those not looked at for so many seconds."""
    with site.store.transaction() as session:
        return names(session, due_after=due_after)
