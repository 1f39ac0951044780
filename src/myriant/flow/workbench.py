"""The workbench: what a plan means before it is committed, what the repository shows, and saving."""

from __future__ import annotations

import difflib
import json
import statistics
import tomllib
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from datetime import UTC, datetime, timedelta
from itertools import islice
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from myriant.core.detect.propose import Proposal, detected, propose
from myriant.core.detect.repository import Evidence, Tree
from myriant.core.matrix.expand import Cell as PlannedCell
from myriant.core.matrix.expand import combinations, dropped_cells
from myriant.core.plan.advice import Surroundings, misplaced, sample_events
from myriant.core.plan.intent import Earlier, Event, Intent, JobIntent, intent, order, starts_nothing
from myriant.core.plan.keys import EVENTS
from myriant.core.plan.model import FILE_NAME, MOST_CELLS, Plan
from myriant.core.plan.read import read_plan
from myriant.core.plan.selectors import SelectorError, parse_selector
from myriant.core.written import counted, duration
from myriant.flow.errors import BadInput, Refused
from myriant.flow.intake import BRANCH, look, named
from myriant.flow.people import Person
from myriant.flow.projects import POLL_SECONDS, first_look
from myriant.flow.site import Site
from myriant.flow.views import BlindView, PlanProblem, problem_view
from myriant.repos.git import GitError
from myriant.repos.mirror import Mirror
from myriant.store.changes import tell
from myriant.store.runs import earlier_sample, newest_run_of_commit, runners_in_touch
from myriant.store.tables import Attempt, Cell, Project, PullRequest, Ref, Run, Runner, Schedule, Untested

_IN_TOUCH = timedelta(seconds=60)
_USUAL_SECONDS = 30.0  # of a cell that never ran
_MOST_SHOWN = 4096


@dataclass(frozen=True, slots=True)
class Standing:
    """The plan as it stands: where it comes from, and what it is compared with."""

    text: str
    origin: str  # repository, server, none
    branch: str
    commit: str | None
    branches: list[str]
    misplaced: str  # what to tell of a plan under another name
    empty: bool  # the repository has no commit
    hooked: bool
    next_look: datetime | None  # when the repository is looked at next, without a hook
    main_branch: str


@dataclass(frozen=True, slots=True)
class CellMeaning:
    """A cell of a job: whether it is dropped, added, sampled or advisory, and who can serve it."""

    key: str
    values: dict[str, str]
    state: str  # selected, unselected, dropped
    added: bool
    advisory: bool
    runners: list[str]
    lacks: str  # why no runner can serve it
    seconds: float | None  # predicted, from earlier attempts
    wants: list[str]


@dataclass(frozen=True, slots=True)
class JobMeaning:
    job: str
    title: str
    line: int
    runs: bool
    reason: str
    because: str
    after: list[str]
    gated: bool
    dimensions: dict[str, list[str]]
    combinations: int
    cells: list[CellMeaning]
    blind: BlindView | None
    steps: list[str]


@dataclass(frozen=True, slots=True)
class Forecast:
    """What an event would take: minutes of machines, time to the verdict, price; None: nothing is known of it."""

    cells: int
    minutes: float
    seconds: float
    known: int  # cells whose time is known from earlier attempts
    price: float | None


@dataclass(frozen=True, slots=True)
class Rehearsal:
    event: str
    reason: str  # why nothing runs, empty when something does
    sentence: str
    order: list[list[str]]
    jobs: list[JobMeaning]
    forecast: Forecast


@dataclass(frozen=True, slots=True)
class Meaning:
    """All that a text means: its problems, and, when it can be used, what runs."""

    problems: list[PlanProblem]
    usable: bool
    rehearsal: Rehearsal | None  # every job with all its cells, for the first event that the plan speaks of
    difference: list[str]  # against the plan that stands, as lines of a unified diff
    limit: int
    schedules: list[ScheduleMeaning]
    outline: list[str]  # what the plan says, line by line
    document: dict[str, Any]  # the values of the text, as the forms show them; empty when it is not valid TOML


@dataclass(frozen=True, slots=True)
class ScheduleMeaning:
    name: str
    words: str
    next: list[datetime]


@dataclass(frozen=True, slots=True)
class WantedEvent:
    """An event to rehearse."""

    kind: str = "push"
    branch: str = ""
    source: str = ""
    tag: str = ""
    schedule: str = ""
    changed: list[str] | None = None
    jobs: list[str] | None = None
    cells: str = ""


@dataclass(frozen=True, slots=True)
class Proposals:
    detected: list[Evidence]
    proposals: list[Proposal]
    files: int
    misplaced: str


@dataclass(frozen=True, slots=True)
class Saved:
    commit: str
    branch: str
    said: str
    runs: list[int]


def standing_plan(site: Site, project_name: str, branch: str | None = None) -> Standing:
    """The plan of a branch as it is in the repository now, or the one kept on the server."""
    project, mirror, heads = _fetched(site, project_name)
    branch = branch or project.main_branch
    commit = heads.get(branch)
    text = mirror.file(commit, FILE_NAME) if commit else None
    files = mirror.files(commit) if commit and text is None else []
    origin = "repository" if text is not None else "server" if project.plan is not None else "none"
    looked = project.looked_at
    return Standing(
        text=(text if text is not None else (project.plan or "").encode()).decode("utf-8", "replace"),
        origin=origin,
        branch=branch,
        commit=commit,
        branches=sorted(heads),
        misplaced=misplaced(files),
        empty=not heads,
        hooked=project.hooked,
        next_look=None if project.hooked or looked is None else looked + timedelta(seconds=POLL_SECONDS),
        main_branch=project.main_branch,
    )


def meaning(site: Site, project_name: str, text: str, event: WantedEvent | None = None) -> Meaning:
    """What a text would mean as the project's plan; with `event`, for that event."""
    with site.store.transaction() as session:
        project = named(session, project_name)
        around = _around(site, session, project)
        reading = read_plan(text.encode("utf-8", "surrogatepass"), around=around)
        rehearsal = None
        if reading.plan is not None:
            wanted = _event(event) if event is not None else _first_event(reading.plan, project)
            rehearsal = _rehearsed(session, project, reading.plan, wanted)
        main = session.get(Ref, (project.id, BRANCH + project.main_branch))
        kept = project.plan or ""
    mirror = site.mirror(project)
    before = mirror.file(main.commit, FILE_NAME) if main is not None else None
    difference = difflib.unified_diff(
        (before.decode("utf-8", "replace") if before is not None else kept).splitlines(), text.splitlines(),
        "as it stands", "as it is here", lineterm="", n=2,
    )  # fmt: skip
    now = datetime.now(UTC)
    schedules = reading.plan.events.schedules if reading.plan is not None else ()
    return Meaning(
        problems=[problem_view(asdict(p)) for p in reading.problems],
        usable=reading.plan is not None,
        rehearsal=rehearsal,
        difference=list(islice(difference, 2000)),
        limit=MOST_CELLS,
        schedules=[ScheduleMeaning(s.name, s.times.words, list(islice(s.times.after(now), 3))) for s in schedules],
        outline=_outline(reading.plan) if reading.plan is not None else [],
        document=_document(text),
    )


def _document(text: str) -> dict[str, Any]:
    try:
        found: dict[str, Any] = json.loads(json.dumps(tomllib.loads(text), default=str))
    except (tomllib.TOMLDecodeError, RecursionError, ValueError):
        return {}
    return found


def _outline(plan: Plan) -> list[str]:
    """The events of a plan in words."""
    events, said = plan.events, []
    for wanted, what, to in ((events.push, "Every push", "to"), (events.pull_request, "Every pull request", "into")):
        if wanted is None:
            said.append(f"{what} starts nothing")
            continue
        line = f"{what} {to} {' or '.join(wanted.branches) if wanted.branches else 'any branch'}"
        if wanted.touching:
            line += f" that touches {', '.join(wanted.touching)}"
        if wanted.unless_only:
            line += f", unless only {', '.join(wanted.unless_only)} changed"
        said.append(line)
    said.append("No tag" if events.tags is None else f"Every tag {' or '.join(events.tags)}".rstrip())
    said += [f"{s.name}: {s.times.words}{f', {s.branch}' if s.branch else ''}" for s in events.schedules]
    return said


def _first_event(plan: Plan, project: Project) -> Event:
    """A push to the main branch when the plan wants it, else the first event that it speaks of."""
    main = Event("push", project.main_branch)
    if not starts_nothing(plan, main):
        return main
    return next((e for e in sample_events(plan) if not starts_nothing(plan, e)), Event("manual", project.main_branch))


def _event(wanted: WantedEvent) -> Event:
    if wanted.kind not in EVENTS:
        raise BadInput(f"there is no event {wanted.kind[:80]}", f"events: {', '.join(EVENTS)}")
    try:
        cells = parse_selector(wanted.cells) if wanted.cells else None
    except SelectorError as error:
        raise BadInput(str(error), "write for example python<=3.9") from error
    branch = "" if wanted.kind == "tag" else wanted.branch
    changed = tuple(wanted.changed) if wanted.changed else None
    jobs = tuple(wanted.jobs or ()) if wanted.kind == "manual" else ()
    return Event(wanted.kind, branch, wanted.source, wanted.tag, wanted.schedule, changed, jobs, cells)


def _around(site: Site, session: Session, project: Project) -> Surroundings:
    runners = runners_in_touch(session, datetime.now(UTC) - _IN_TOUCH)
    refs = session.scalars(select(Ref).where(Ref.project_id == project.id, Ref.name.startswith(BRANCH))).all()
    branches = {r.name.removeprefix(BRANCH): r.commit for r in refs}
    head = branches.get(project.main_branch)
    mirror = site.mirror(project)
    files: tuple[str, ...] | None = None
    if head is not None and mirror.has(head):
        files = tuple(mirror.files(head))
    return Surroundings(
        offers=frozenset(o for r in runners for o in r.offers) if runners else None,
        files=files,
        mentions=(lambda word: mirror.grep(head, word)) if head is not None and files is not None else None,
        branches=frozenset(branches) if branches else None,
    )


# --- rehearsal ----------------------------------------------------------------------------------


def _rehearsed(session: Session, project: Project, plan: Plan, event: Event) -> Rehearsal:
    earlier = Earlier(
        {
            job.id: earlier_sample(session, project.id, event.branch or project.main_branch, job.id)
            for job in plan.jobs
            if job.sample
        }
    )
    found = intent(plan, event, earlier)
    times = _times(session, project, [j.job.id for j in found.jobs])
    runners = list(runners_in_touch(session, datetime.now(UTC) - _IN_TOUCH))
    jobs = [_job(found, j, times, runners) for j in found.jobs]
    ranks = order(plan)
    forecast = _forecast(jobs if not found.reason else [], ranks, runners)
    return Rehearsal(str(event), found.reason, _sentence(found, forecast), ranks, jobs, forecast)


def _times(session: Session, project: Project, jobs: Sequence[str]) -> dict[tuple[str, str], float]:
    """The median seconds of each cell over the newest runs; the empty key is the job's."""
    newest = select(Run.id).where(Run.project_id == project.id).order_by(Run.id.desc()).limit(20)
    rows = session.execute(
        select(
            Cell.job,
            Cell.key,
            func.extract("epoch", Attempt.ended_at - func.coalesce(Attempt.started_at, Attempt.created_at)),
        )
        .join(Attempt, Attempt.id == Cell.attempt_id)
        .where(
            Cell.run_id.in_(newest), Cell.job.in_(jobs), Attempt.state.in_(("passed", "failed")), Cell.reused.is_(None)
        )
    )
    by_cell: dict[tuple[str, str], list[float]] = {}
    for job, key, seconds in rows:
        if seconds is not None:
            by_cell.setdefault((job, key), []).append(float(seconds))
            by_cell.setdefault((job, ""), []).append(float(seconds))
    return {name: statistics.median(seconds) for name, seconds in by_cell.items()}


def _job(found: Intent, j: JobIntent, times: dict[tuple[str, str], float], runners: Sequence[Runner]) -> JobMeaning:
    job = j.job
    cells = [_cell(c, times, runners) for c in j.cells[:_MOST_SHOWN]]
    if not found.reason:
        cells += [
            CellMeaning(_key(values), values, "dropped", False, False, [], "", None, [])
            for values in dropped_cells(job)[: _MOST_SHOWN - len(cells)]
        ]
    blind = BlindView(j.blind.size, j.blind.missed, j.blind.possible, list(j.examples)) if j.blind else None
    return JobMeaning(
        job.id,
        job.title,
        job.line,
        j.runs and not found.reason,
        j.reason,
        j.because,
        [a.job for a in job.after],
        job.gated,
        {d: list(v) for d, v in job.vary.items()},
        combinations(job),
        cells,
        blind,
        [s.name for s in job.steps],
    )


def _key(values: dict[str, str]) -> str:
    return ",".join(f"{k}={v}" for k, v in values.items())


def _cell(cell: PlannedCell, times: dict[tuple[str, str], float], runners: Sequence[Runner]) -> CellMeaning:
    able = [r.name for r in runners if set(cell.wants) <= set(r.offers)]
    lacks = ""
    if not able:
        missing = sorted(set(cell.wants) - {o for r in runners for o in r.offers})
        lacks = f"no runner offers {' and '.join(missing)}" if missing else "no single runner offers all of it"
        lacks = lacks if runners else "no runner is in touch"
    return CellMeaning(
        cell.key, cell.values, "selected" if cell.selected else "unselected", cell.added, cell.advisory, able, lacks,
        times.get((cell.job, cell.key), times.get((cell.job, ""))), list(cell.wants),
    )  # fmt: skip


def _forecast(jobs: Sequence[JobMeaning], ranks: list[list[str]], runners: Sequence[Runner]) -> Forecast:
    slots = max(1, sum(r.slots for r in runners))
    prices = [r.price for r in runners if r.price > 0]
    total = elapsed = 0.0
    count = known = 0
    by_id = {j.job: j for j in jobs if j.runs}
    for rank in ranks:
        seconds: list[float] = []
        binding: list[float] = []  # what the verdict waits for
        for job in (by_id[i] for i in rank if i in by_id):
            chosen = [c for c in job.cells if c.state == "selected"]
            mine = [c.seconds if c.seconds is not None else _USUAL_SECONDS for c in chosen]
            seconds += mine
            binding += [] if job.gated else mine
            known += sum(c.seconds is not None for c in chosen)
        count += len(seconds)
        total += sum(seconds)
        elapsed += _side_by_side(binding, slots)
    price = total / 60 * min(prices) if prices else None
    return Forecast(count, total / 60, elapsed, known, price)


def _side_by_side(seconds: Sequence[float], slots: int) -> float:
    """The time that cells take on so many slots, the longest first."""
    busy = [0.0] * min(slots, max(1, len(seconds)))
    for s in sorted(seconds, reverse=True):
        first = busy.index(min(busy))
        busy[first] += s
    return max(busy)


def _sentence(found: Intent, forecast: Forecast) -> str:
    event = str(found.event)
    begin = event[:1].upper() + event[1:]
    if found.reason:
        return f"{begin}: nothing runs, because {found.reason}."
    jobs = [j for j in found.jobs if j.runs]
    unselected = sum(len(j.cells) - j.selected for j in jobs)
    more = f", {unselected} not selected" if unselected else ""
    guess = "about " if forecast.known else "perhaps "
    return (
        f"{begin} runs {counted(forecast.cells, 'cell')} of {counted(len(jobs), 'job')}{more}; {guess}"
        f"{duration(forecast.seconds)} to the verdict, {duration(forecast.minutes * 60)} of machine time."
    )


# --- proposals and saving -----------------------------------------------------------------------


def proposals(site: Site, project_name: str, branch: str | None = None) -> Proposals:
    """What the repository shows of itself, and the plans that would fit."""
    project, mirror, heads = _fetched(site, project_name)
    commit = heads.get(branch or project.main_branch)
    files = mirror.files(commit) if commit else []
    with site.store.transaction() as session:
        offers = [o for r in runners_in_touch(session, datetime.now(UTC) - _IN_TOUCH) for o in r.offers]
    tree = Tree(files, lambda path: mirror.file(commit, path) if commit else None)
    return Proposals(
        detected(tree), propose(tree, main=project.main_branch, offers=offers), len(files), misplaced(files)
    )


def save_plan(
    site: Site,
    project_name: str,
    who: Person,
    *,
    text: str,
    branch: str,
    message: str,
    start: bool,
    expected: str | None,
) -> Saved:
    """Commit a plan to a branch, an existing or a new one; without `start` the commit starts nothing.

    `expected` is the branch's commit on which the text was written: when it has moved since, Refused.
    """
    project, mirror, heads = _fetched(site, project_name)
    reading = read_plan(text.encode())
    if reading.plan is None and start:
        raise BadInput(f"the plan has problems, first {reading.errors[0]}", "mend them, or save without starting")
    if not branch or branch.startswith(("-", "/")) or any(c in branch for c in " ~^:?*[\\\0") or ".." in branch:
        raise BadInput(f"{branch[:80]!r} cannot be the name of a branch", "write for example plan/first")
    head = heads.get(branch)
    if expected is not None and head is not None and head != expected:
        raise Refused(f"{branch} has moved to {head[:7]} meanwhile", "load its plan again and repeat your change")
    parent = head or heads.get(project.main_branch)
    if parent is not None and mirror.file(parent, FILE_NAME) == text.encode() and head is not None:
        raise Refused(f"{branch} has this very plan already", "change something first")
    try:
        commit = mirror.commit_file(parent, FILE_NAME, text.encode(), message or "Write the test plan", who.name)
        if not start:
            with site.store.transaction() as session:
                session.merge(Ref(project_id=project.id, name=BRANCH + branch, commit=commit))
                session.merge(
                    Untested(
                        project_id=project.id,
                        commit=commit,
                        branch=branch,
                        run=0,
                        title=(message or "Write the test plan")[:500],
                        reason=f"{who.name} saved the plan without starting a run",
                    )
                )
        mirror.send(commit, branch, head)
    except GitError as error:
        if not start:
            _forget_head(site, project, branch, head)
        raise Refused(f"the repository did not take the commit: {error}", "may the server write to it?") from error
    numbers = look(site, project_name) if start else []
    if start and not numbers:  # the hook was quicker
        with site.store.transaction() as session:
            numbers = [r.number for r in newest_run_of_commit(session, commit) if r.project_id == project.id]
    how = f"started {', '.join(f'#{n}' for n in numbers)}" if numbers else "" if start else "nothing was started"
    return Saved(commit, branch, how, numbers)


def _forget_head(site: Site, project: Project, branch: str, head: str | None) -> None:
    with site.store.transaction() as session:
        ref = session.get(Ref, (project.id, BRANCH + branch))
        if ref is not None and head is not None:
            ref.commit = head
        elif ref is not None:
            session.delete(ref)


def keep_plan(site: Site, project_name: str, who: Person, text: str | None) -> None:
    """Keep a plan on the server for a repository that has none; None takes it away."""
    if text is not None and len(text.encode()) > 1 << 20:
        raise BadInput("the plan has more than 1 MiB", "make it smaller")
    if text is not None and (reading := read_plan(text.encode())).plan is None:
        raise BadInput(f"the plan has problems, first {reading.errors[0]}", "mend them first")
    with site.store.transaction() as session:
        project = named(session, project_name)
        project.plan, project.plan_by = text, who.name if text is not None else ""
        project.plan_at = func.now() if text is not None else None
        tell(session, "project", project_name)


def _fetched(site: Site, project_name: str) -> tuple[Project, Mirror, dict[str, str]]:
    """The project, its mirror brought up to date, and its branches."""
    with site.store.transaction() as session:
        project = named(session, project_name)
    mirror = site.mirror(project)
    try:
        mirror.fetch()
    except GitError as error:
        raise BadInput(f"the repository cannot be read: {error}", "is it there, and may the server read it?") from error
    return project, mirror, mirror.branches()


# --- what is to come ----------------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class Coming:
    """How a project hears of events, and what comes next."""

    hooked: bool
    next_look: datetime | None
    trouble: str | None
    schedules: list[ComingSchedule]
    pull_requests: list[PullRequestView]
    next_push: str  # what the next push to the main branch runs


@dataclass(frozen=True, slots=True)
class ComingSchedule:
    name: str
    branch: str
    words: str
    at: datetime


@dataclass(frozen=True, slots=True)
class PullRequestView:
    number: int
    source: str
    target: str
    title: str
    author: str
    state: str
    run: int | None


def coming(site: Site, project_name: str) -> Coming:
    with site.store.transaction() as session:
        project = named(session, project_name)
        schedules = session.scalars(
            select(Schedule).where(Schedule.project_id == project.id).order_by(Schedule.next_at)
        )
        pulls = session.scalars(
            select(PullRequest)
            .where(PullRequest.project_id == project.id)
            .order_by(PullRequest.number.desc())
            .limit(200)
        ).all()
        newest: dict[int | None, int] = {
            row[0]: row[1]
            for row in session.execute(
                select(Run.pull_request, func.max(Run.number))
                .where(Run.project_id == project.id, Run.pull_request.is_not(None))
                .group_by(Run.pull_request)
            )
        }
        plan = _main_plan(site, session, project)
        push = ""
        if plan is not None:
            push = _rehearsed(session, project, plan, Event("push", project.main_branch)).sentence
        return Coming(
            project.hooked,
            None
            if project.hooked or project.looked_at is None
            else project.looked_at + timedelta(seconds=POLL_SECONDS),
            project.trouble,
            [ComingSchedule(s.name, s.branch, s.words, s.next_at) for s in schedules],
            [
                PullRequestView(p.number, p.source, p.target, p.title, p.author, p.state, newest.get(p.number))
                for p in pulls
            ],
            push,
        )


def _main_plan(site: Site, session: Session, project: Project) -> Plan | None:
    ref = session.get(Ref, (project.id, BRANCH + project.main_branch))
    mirror = site.mirror(project)
    source = mirror.file(ref.commit, FILE_NAME) if ref is not None and mirror.has(ref.commit) else None
    text = source if source is not None else (project.plan or "").encode()
    return read_plan(text).plan if text else None


@dataclass(frozen=True, slots=True)
class Looked:
    """What a repository's address leads to."""

    address: str
    name: str
    branches: int
    main_branch: str
    local: bool
    hookable: bool
    empty: bool
    said: str


def offers_now(site: Site) -> list[str]:
    """Every runtime wish and label that runners in touch meet."""
    with site.store.transaction() as session:
        return sorted({o for r in runners_in_touch(session, datetime.now(UTC) - _IN_TOUCH) for o in r.offers})


def look_at_repository(site: Site, address: str) -> Looked:
    """Try whether a repository can be read, and say how its events would be heard. Raises BadInput with the reason."""
    found = first_look(address)
    return Looked(**asdict(found))
