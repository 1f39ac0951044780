"""Worlds that tests live in: a real installation with PostgreSQL, server, worker and a runner; watched repositories."""

from __future__ import annotations

import hashlib
import os
import shutil
import subprocess
import tempfile
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from itertools import count
from pathlib import Path
from typing import Any

import httpx
from sqlalchemy import func, select
from sqlalchemy.exc import SQLAlchemyError

from myriant.cli.database import free_port
from myriant.cli.place import Place
from myriant.cli.up import Installation
from myriant.flow.site import Site
from myriant.store.engine import Store
from myriant.store.tables import Attempt, Cell, Change, Project, Run
from myriant.wire.parcels import ReportHead, head_bytes

_names = count(1)
HERE = Path(__file__).parent
WHEELS = HERE.parent / ".setup/wheels"
PLAN = """\
version = 1

[jobs.unit]
vary    = { lua = ["5.1", "5.4"] }
runtime = ["lua"]

[[jobs.unit.steps]]
name    = "test"
command = "sh test.sh"
collect = { tests = ["out/unit.xml"] }
"""


def parcel(data: bytes, **head: Any) -> bytes:
    """A file as a runner delivers it."""
    told = {"number": 0, "step": 0, "content": "tests", "kind": "unit", "path": "out/unit.xml", "size": len(data)}
    return head_bytes(ReportHead(**{**told, "digest": hashlib.sha256(data).hexdigest(), **head})) + data


def junit(**cases: str) -> str:
    """A small report: names of cases, each "passed" or the message of its failure."""
    rows = [
        f'<testcase classname="t" name="{name}" time="0.01"'
        + ("/>" if said == "passed" else f'><failure message="{said}">trace of {name}</failure></testcase>')
        for name, said in cases.items()
    ]
    return f'<testsuites><testsuite name="s">{"".join(rows)}</testsuite></testsuites>'


def writes(report: str, *, status: int = 0) -> str:
    """A test.sh that writes a report and exits."""
    return f"mkdir -p out\ncat > out/unit.xml <<'END'\n{report}\nEND\nexit {status}\n"


@dataclass
class Repository:
    """A bare repository that a server watches, and a clone to work in."""

    world: World
    name: str
    origin: Path
    tree: Path

    def git(self, *words: str) -> str:
        done = subprocess.run(["git", *words], cwd=self.tree, capture_output=True, text=True, check=True)
        return done.stdout + done.stderr

    def commit(self, files: dict[str, str | None], message: str = "a change") -> str:
        """Write files (None removes one) and commit; the commit's id."""
        for path, text in files.items():
            target = self.tree / path
            if text is None:
                target.unlink()
            else:
                target.parent.mkdir(parents=True, exist_ok=True)
                target.write_text(text)
        self.git("add", "--all")
        self.git("commit", "--quiet", "--allow-empty", "-m", message)
        return self.git("rev-parse", "HEAD").strip()

    def push(self, branch: str = "main", *options: str) -> str:
        return self.git("push", *options, "origin", f"HEAD:refs/heads/{branch}")

    def run_of(self, commit: str, *, within: float = 240, until: str = "decided") -> dict[str, Any]:
        """The run of a commit, once it is decided for good ("early": for now; "there": once it exists)."""
        end, news, asked = time.monotonic() + within, -1, 0.0
        while time.monotonic() < end:
            newest = self.world.newest_change(self.name)
            waits = until != "there" and not self.world.is_judged(self.name, commit)
            if (newest == news or waits) and time.monotonic() < asked + 2:
                time.sleep(0.05)
                continue
            news, asked = newest, time.monotonic()
            found = self.world.word(commit, self.name)
            there = found is not None and found["run"] is not None
            decided = there and found["verdict"] != "undecided"
            if found and there and (until == "there" or (decided and (until == "early" or found["final"]))):
                view: dict[str, Any] = self.world.get(f"/projects/{self.name}/runs/{found['run']}")
                return view
        stands = []
        for said in self.world.contexts(commit, self.name):
            view = self.world.get(f"/projects/{self.name}/runs/{said['run']}")
            stands.append(
                (view["run"]["sentence"], *((c["job"], c["key"], c["state"], c["reason"]) for c in view["cells"]))
            )
        raise AssertionError(f"{commit} was not decided in {within} s: {found} {stands}")

    def pushed(self, files: dict[str, str | None], message: str = "a change", **options: Any) -> dict[str, Any]:
        """Commit, push, and wait for the verdict."""
        commit = self.commit(files, message)
        self.push()
        return self.run_of(commit, **options)

    def findings(self, run: dict[str, Any], **query: Any) -> dict[str, Any]:
        found: dict[str, Any] = self.world.get(f"/projects/{self.name}/runs/{run['run']['number']}/findings", **query)
        return found

    def note(self, commit: str, *, within: float = 15) -> str:
        """The commit note as git shows it in the watched repository."""
        end = time.monotonic() + within
        while True:
            done = subprocess.run(
                ["git", "-C", str(self.origin), "notes", "--ref=myriant", "show", commit],
                capture_output=True,
                text=True,
            )
            if done.returncode == 0 or time.monotonic() > end:
                return done.stdout
            time.sleep(0.15)


@dataclass
class World:
    installation: Installation
    folder: Path
    http: httpx.Client
    said: list[str] = field(default_factory=list)

    @property
    def address(self) -> str:
        return self.installation.address

    @property
    def site(self) -> Site:
        assert self.installation.site is not None
        return self.installation.site

    def newest_change(self, project: str) -> int:
        """The newest thing that was told of a project: to ask the database for it costs far less than any answer."""
        try:
            with self.site.store.view() as session:
                return session.scalar(select(func.max(Change.id)).where(Change.project == project)) or 0
        except SQLAlchemyError:  # the database is away, as some tests want it
            time.sleep(0.2)
            return -2

    def is_judged(self, project: str, commit: str) -> bool:
        """Whether some run of a commit is decided, as far as the database says."""
        try:
            with self.site.store.view() as session:
                judged = (
                    select(Run.id)
                    .join(Project)
                    .where(Project.name == project, Run.commit == commit, Run.verdict != "undecided")
                )
                return session.scalar(judged.limit(1)) is not None
        except SQLAlchemyError:
            return True

    def word(self, commit: str, project: str, context: str | None = None) -> dict[str, Any] | None:
        """What a project says of a commit."""
        found = self.get(f"/words/{commit}", project=project, context=context)
        return dict(found[0]) if found else None

    def contexts(self, commit: str, project: str) -> list[dict[str, Any]]:
        """What each context of a commit says, and what is evidence only."""
        found = self.word(commit, project)
        return [*found["contexts"], *found["evidence"]] if found else []

    def get(self, path: str, **query: Any) -> Any:
        params = {k: v for k, v in query.items() if v is not None}
        for _ in range(240):
            try:
                answer = self.http.get(path, params=params)
            except httpx.TransportError:
                time.sleep(0.25)
                continue
            if answer.status_code != 503:
                assert answer.status_code == 200, answer.text
                return answer.json()
            time.sleep(0.25)
        raise AssertionError(f"no answer from {path}")

    def repository(self, name: str, plan: str | None = PLAN, **files: str) -> Repository:
        """A watched repository with a plan and, when files are given, a first pushed commit that was judged."""
        origin, tree = self.folder / f"{name}.git", self.folder / f"{name} tree"
        subprocess.run(["git", "init", "--quiet", "--bare", "--initial-branch=main", str(origin)], check=True)
        subprocess.run(["git", "clone", "--quiet", str(origin), str(tree)], check=True, capture_output=True)
        repository = Repository(self, name, origin, tree)
        repository.git("config", "user.name", "Ada Fen")
        repository.git("config", "user.email", "ada@fenmark.example")
        repository.git("checkout", "--quiet", "-b", "main")
        answer = self.http.post("/projects", json={"address": str(origin), "name": name})
        assert answer.status_code == 201, answer.text
        if plan is not None and files:
            repository.pushed({"myriant.toml": plan, **{k.replace("__", "."): v for k, v in files.items()}}, "first")
        elif plan is not None:
            repository.commit({"myriant.toml": plan}, "first")
        return repository

    def command(self, *words: str, cwd: Path | None = None) -> subprocess.CompletedProcess[str]:
        """Run the myriant command against this installation."""
        environment = {**os.environ, "MYRIANT_DATA": str(self.installation.place.data)}
        program = str(Path(__file__).parent.parent / ".venv/bin/myriant")
        return subprocess.run([program, *words], cwd=cwd, env=environment, capture_output=True, text=True, timeout=120)


def _tend(installation: Installation, stopping: threading.Event) -> None:
    """What `myriant up` does all the time."""
    while not stopping.wait(0.2):
        installation.tend()


def stored_project(store: Store, runs: int = 1, cells: int = 1) -> tuple[int, list[int]]:
    """A project with runs and cells that have passed; its id and its attempts, oldest run first."""
    with store.transaction() as session:
        made = Project(name=f"stored-{next(_names)}", address="/nowhere", main_branch="main")
        made.looked_at = datetime.now(UTC) + timedelta(days=1)  # there is nothing to look at
        session.add(made)
        session.flush()
        attempts = []
        for number in range(1, runs + 1):
            run = Run(
                project_id=made.id,
                number=number,
                event="push",
                context="push main",
                branch="main",
                commit=f"{number:040x}",
                state="passed",
                verdict="clear",
                depth=number,
            )
            session.add(run)
            session.flush()
            for position in range(cells):
                cell = Cell(
                    run_id=run.id,
                    job="unit",
                    job_title="unit",
                    position=position,
                    key=f"n={position}",
                    values={},
                    wants=[],
                    state="passed",
                )
                session.add(cell)
                session.flush()
                attempt = Attempt(
                    cell_id=cell.id, number=1, state="passed", runner="", lease_digest="", lease_until=func.now()
                )
                session.add(attempt)
                session.flush()
                cell.attempt_id = attempt.id
                attempts.append(attempt.id)
        return made.id, attempts


@contextmanager
def one_installation(prefix: str) -> Iterator[World]:
    """A real installation with its runner, gone afterwards."""
    folder = Path(tempfile.mkdtemp(prefix=prefix))
    folder.chmod(0o755)
    os.environ["MYRIANT_SUBMODULE_FOLDERS"] = str(folder)
    said: list[str] = []
    stopping = threading.Event()
    installation = Installation(Place(folder / "data"), free_port(), 4, [WHEELS], tell=said.append)
    try:
        installation.begin()
        token = (installation.place.connection).read_text()
        http = httpx.Client(
            base_url=f"{installation.address}/api/v1",
            headers={"Authorization": f"Bearer {httpx.Response(200, content=token).json()['token']}"},
            timeout=30,
        )
        tending = threading.Thread(target=_tend, args=(installation, stopping), daemon=True)
        tending.start()
        yield World(installation, folder, http, said)
    finally:
        stopping.set()
        installation.stop()
        shutil.rmtree(folder, ignore_errors=True)
