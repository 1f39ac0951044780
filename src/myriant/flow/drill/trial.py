"""A drill: the gate of a project tried with artificial failures in a throw-away copy, and read at every place."""

from __future__ import annotations

import contextlib
import json
import secrets
import shutil
import time
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

from tenacity import Retrying, retry_if_exception, stop_after_attempt

from myriant.core.gate import drilled
from myriant.core.gate.drilled import LONGEST, Drill, DrillPlace, DrillStep, Fault, Scenario, Where
from myriant.core.plan.globs import matches
from myriant.core.plan.intent import Event, Intent, intent
from myriant.core.plan.model import FILE_NAME, Plan, Step
from myriant.core.plan.read import read_plan
from myriant.core.states import EventKind, Verdict
from myriant.core.telling.news import News
from myriant.core.telling.template import Template, TemplateError, fill
from myriant.core.written import counted, duration
from myriant.flow.admin.badges import badge_key
from myriant.flow.admin.projects import forget_project
from myriant.flow.announce.notes import announce_run
from myriant.flow.announce.ways import values_of
from myriant.flow.errors import BadInput, Refused
from myriant.flow.history import PastCell, PastReport, PastRun, import_run
from myriant.flow.intake.refs import remember_branches
from myriant.flow.naming import the_project
from myriant.flow.sealing import as_sealed, opened
from myriant.flow.site import Site
from myriant.flow.views.desk.page import desk_view
from myriant.flow.views.morning import morning
from myriant.flow.views.past import runs_of
from myriant.flow.views.run.verdicts import word_of_commit
from myriant.flow.views.settings.badges import badge_of
from myriant.flow.views.strip import strip_of
from myriant.flow.who import Person
from myriant.repos import answers
from myriant.repos.git import GitError, git
from myriant.store.audit import record
from myriant.store.engine import is_deadlock
from myriant.store.projects import all_projects, project_named
from myriant.store.records import Telling
from myriant.store.runs import run_numbered
from myriant.store.secrets import secrets_of_project
from myriant.store.tables import Project, Way
from myriant.store.ways import ways_of


def drill(site: Site, name: str, who: Person) -> Drill:
    """Try a project's gate by its plan on the main branch. Nothing runs, nothing is sent, nothing is left behind.

    Raises NotFound, BadInput without a plan that can be used, Refused while another drill goes on.
    """
    began = time.monotonic()
    plan, text, found, where = ready(site, name)
    copy = copy_of(name)
    folder = site.mirrors.parent / "drills" / f"{copy}-{secrets.token_hex(4)}"
    with site.store.transaction() as session:
        if project_named(session, copy) is not None:
            raise Refused(f"a drill of {name} goes on", "wait until it is over")
        made = Project(
            name=copy,
            address=str(folder),
            main_branch=found.event.branch,
            paused=True,
            description=f"A drill of {name}; it goes by itself",
        )
        session.add(made)
        session.flush()
        mirror = site.mirrors / f"{made.id}.git"
    try:
        steps = _steps(site, name, copy, folder, plan, text, found, where)
    finally:
        forget_project(site, copy)
        for left in (folder, mirror, mirror.with_suffix(".lock")):
            shutil.rmtree(left, ignore_errors=True)
            with contextlib.suppress(OSError):
                left.unlink(missing_ok=True)
    wrong = [s for s in steps if not s.right]
    passed = not wrong
    took = duration(time.monotonic() - began)
    places = len({p.place for s in steps for p in s.places})
    said = (
        f"The gate holds: {counted(len(steps), 'commit')} tried, {counted(places, 'place')} read for each, in {took}."
        if passed
        else f"The gate does NOT hold: {wrong[0].title}, and it must be {wrong[0].expected}. {_first_wrong(wrong[0])}"
    )
    with site.store.transaction() as session:
        project = the_project(session, name)
        if project.drilled:
            project.drilled, project.drilled_at = {"passed": passed, "said": said}, datetime.now(UTC)
        record(session, project.id, who.name, "drill", said)
    return Drill(said, passed, steps)


def copy_of(name: str) -> str:
    """The throw-away project in which a gate is tried: called as nobody can call a project of their own."""
    return f"{name[:48]}.drill"


def ready(site: Site, name: str) -> tuple[Plan, bytes, Intent, Where]:
    """What is tried. Raises NotFound, BadInput without a plan that can be used, Refused while another drill goes on."""
    clear_away(site, datetime.now(UTC) - LONGEST)
    plan, text, found = _plan(site, name)
    where = drilled.where_it_fails(found)
    if where is None:
        raise BadInput(
            f"the plan of {name} runs no cell for a push", "a drill tries what a push to the main branch runs"
        )
    with site.store.view() as session:
        if project_named(session, copy_of(name)) is not None:
            raise Refused(f"a drill of {name} goes on", "wait until it is over")
    return plan, text, found, where


def clear_away(site: Site, before: datetime, copy: str = "") -> None:
    """Forget throw-away projects that were left behind by a server that was killed: one of them, or all."""
    drills = site.mirrors.parent / "drills"
    with site.store.transaction() as session:
        mine = [p for p in all_projects(session) if Path(p.address).parent == drills and p.created_at < before]
        left = [p.name for p in mine if copy in ("", p.name)]
    for name in left:
        forget_project(site, name)
    if drills.is_dir():
        for folder in drills.iterdir():
            of = folder.name.rpartition("-")[0]
            if copy in ("", of) and datetime.fromtimestamp(folder.stat().st_mtime, UTC) < before:
                shutil.rmtree(folder, ignore_errors=True)


def drill_anew(site: Site, name: str, who: Person) -> Drill:
    """As `drill`, for tasks: they hold a lock for the gate, so what an earlier one left behind belongs to a worker that
    was killed.
    """
    clear_away(site, datetime.now(UTC), copy_of(name))
    return drill(site, name, who)


def _first_wrong(step: DrillStep) -> str:
    odd = next(p for p in step.places if not p.right)
    return f"{odd.place} says {odd.said}."


def _plan(site: Site, name: str) -> tuple[Plan, bytes, Intent]:
    with site.store.transaction() as session:
        project = the_project(session, name)
        mirror, kept, branch = site.mirror(project), project.plan, project.main_branch
    try:
        mirror.fetch()
        head = mirror.branches().get(branch)
        source = mirror.file(head, FILE_NAME) if head is not None else None
    except GitError as error:
        raise BadInput(f"the repository cannot be read: {error}", "mend that first") from error
    text = source if source is not None else (kept or "").encode()
    plan = read_plan(text).plan
    if plan is None:
        raise BadInput(f"{name} has no plan that can be used", f"put a {FILE_NAME} on {branch}")
    return plan, text, intent(plan, Event(EventKind.PUSH, branch))


def _steps(
    site: Site, name: str, copy: str, folder: Path, plan: Plan, text: bytes, found: Intent, where: Where
) -> list[DrillStep]:
    folder.mkdir(parents=True)
    git(folder, "init", "--quiet", f"--initial-branch={found.event.branch}")
    files = [f"{f}/water.txt" for f in drilled.folders_of(plan)]
    names = [f"holds water {n}" for n in range(1, drilled.tests_wanted(plan) + 1)]
    steps, at = [], datetime.now(UTC)
    for number, scenario in enumerate(drilled.scenarios(plan, where), 1):
        commit = _commit(folder, text, files, names, number, scenario.title)
        remember_branches(site, copy)
        cells = _cells(found, scenario, where, files, names)
        past = PastRun(commit, found.event.branch, at + timedelta(seconds=number), cells, alone=True)
        for again in Retrying(retry=retry_if_exception(is_deadlock), stop=stop_after_attempt(8), reraise=True):
            with again:  # the worker looks at every project meanwhile
                run = import_run(site, copy, past)
        steps.append(_read(site, name, copy, folder, commit, run, scenario))
    return steps


def _commit(folder: Path, plan: bytes, files: Sequence[str], names: Sequence[str], number: int, title: str) -> str:
    (folder / FILE_NAME).write_bytes(plan)
    (folder / "tests.txt").write_text("\n".join(names))  # where a test that vanishes still stands
    for file in files:
        (folder / file).parent.mkdir(parents=True, exist_ok=True)
        (folder / file).write_text(drilled.source(number))
    git(folder, "add", "--all", "--force")
    git(folder, "commit", "--quiet", "--no-verify", "-m", f"Drill: {title}")
    return answers.word(git(folder, "rev-parse", "HEAD"))


def _cells(
    found: Intent, scenario: Scenario, where: Where, files: Sequence[str], names: Sequence[str]
) -> list[PastCell]:
    rows = []
    for job in found.jobs:
        if not job.runs or job.job.gated:
            continue
        for cell in job.cells:
            here = (job.job.id, cell.key) == (where.job, where.key)
            fault = scenario.fault if here or scenario.fault in (Fault.UNCOVERED, Fault.VANISHED) else Fault.NONE
            reports = [r for i, step in enumerate(job.job.steps) for r in _reports(i, step, fault, files, names)]
            bad = fault in (Fault.TEST, Fault.STEP)
            rows.append(
                PastCell(
                    job.job.id,
                    cell.key,
                    1.0,
                    {},
                    reports if fault is not Fault.REPORT else [r for r in reports if r.step != where.step],
                    [where.step or 0] if bad else [],
                    "this is a drill: its machine is gone" if fault is Fault.VOID else "",
                    missing=["this is a drill: no file fits its pattern"] if fault is Fault.REPORT else [],
                )
            )
    return rows


def _reports(place: int, step: Step, fault: Fault, files: Sequence[str], names: Sequence[str]) -> list[PastReport]:
    found = []
    for n, collect in enumerate(step.collect):
        told = names[:-1] if fault is Fault.VANISHED else names
        failing = names[0] if fault is Fault.TEST else ""
        for content, wanted, data in (
            ("tests", collect.tests, drilled.junit(told, failing)),
            ("coverage", collect.coverage, drilled.lcov(files, covered=fault is not Fault.UNCOVERED)),
            ("analysis", collect.analysis, drilled.SARIF),
        ):
            if wanted:
                found.append(PastReport(place, content, collect.kind, f"drill/{place}-{n}-{content}", data))
    return found


def _read(site: Site, name: str, copy: str, folder: Path, commit: str, number: int, scenario: Scenario) -> DrillStep:
    """What every place says of a commit of the drill."""
    with site.store.transaction() as session:
        project = the_project(session, copy)
        run = run_numbered(session, project.id, number)
        assert run is not None
        run_id, sentence = run.id, run.sentence
    announce_run(site, run_id)
    expected = str(scenario.expected)
    said = word_of_commit(site, commit, copy)[0]
    usable = morning(site, copy).usable
    strip = strip_of(site, copy, None, None, 1).columns[-1]
    desk = next(p for p in desk_view(site).projects if p.project.name == copy)
    places = [
        _place("the word, by API and command", said.verdict, expected),
        _place("the note on the commit", _note(folder, commit), expected),
        _place("the list of runs", runs_of(site, copy, {}, None, 1).runs[0].word, expected),
        _place("the strip", strip.run.word, expected),
        _place("the Desk", desk.project.newest.word if desk.project.newest else "nothing", expected),
        _place("the badge", badge_of(site, badge_key(site, copy), "verdict", "", "", "", "").text, expected),
        DrillPlace(
            "the morning page",
            "it may be used" if usable else "it may not be used",
            usable is (scenario.expected is Verdict.CLEAR),
        ),
    ]
    places += _ways(site, name, copy, number, expected)
    return DrillStep(scenario.title, expected, sentence, places, all(p.right for p in places))


def _place(place: str, said: object, expected: str) -> DrillPlace:
    return DrillPlace(place, str(said), str(said) == expected)


def _note(folder: Path, commit: str) -> str:
    try:
        first = answers.lines(git(folder, "notes", "--ref=myriant", "show", commit))[0]
    except GitError:
        return "nothing"
    return first.removeprefix("verdict: ").partition(" ")[0]


def _ways(site: Site, name: str, copy: str, number: int, expected: str) -> list[DrillPlace]:
    """What each way of the project would be told; nothing is sent."""
    found = []
    with site.store.transaction() as session:
        project, drilled_one = the_project(session, name), the_project(session, copy)
        run = run_numbered(session, drilled_one.id, number)
        assert run is not None
        told = values_of(site, session, drilled_one, run, News.NONE)
        known = {s.name for s in secrets_of_project(session, project.id)}
        for way in ways_of(session, project.id):
            here = not way.branches or any(matches("/" + b, drilled_one.main_branch) for b in way.branches)
            if way.on and not way.morning and here:
                content = opened(site.key(), project.id, as_sealed(way.name), way.sealed)
                found.append(_way(way, content, told, known, expected))
    return found


def _way(way: Way, content: str | None, told: Telling, known: set[str], expected: str) -> DrillPlace:
    place = f"{way.name} ({way.shown})"
    if content is None:
        return DrillPlace(place, "nothing: it cannot be opened with the key in force", right=False)
    if way.kind == "mail":
        return _place(place, told.state, expected)
    wish = json.loads(content)

    def secret(wanted: str) -> str:
        if wanted not in known:
            raise TemplateError(f"the project has no secret {wanted}")
        return "https://secret.example"

    try:
        fill(Template(wish["url"], wish["method"], wish["headers"], wish["body"]), told.values(), secret)
    except TemplateError as error:
        return DrillPlace(place, f"nothing: {error}", right=False)
    return _place(place, told.state, expected)
