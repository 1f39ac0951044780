"""Stories in process: "given these commits, plans and reports, what is said", asked of the very code that runs.

Database, git and every decision are real. What is left out is processes: the application is reached through its ASGI
interface, tasks run until none is left, and attempts run in plain folders without walls, one after another. So there
is nothing to wait for: when a call returns, all that follows from it has happened.
"""

from __future__ import annotations

import asyncio
import io
import os
import shutil
import subprocess
import tarfile
import tempfile
import threading
import time
from collections.abc import Awaitable, Callable, Iterator, Sequence
from concurrent.futures import Future
from contextlib import contextmanager
from dataclasses import asdict
from functools import cache
from pathlib import Path
from typing import Any, TypeVar

import httpx
import procrastinate
import uvicorn
from fastapi import FastAPI
from sqlalchemy import text
from typer.testing import CliRunner

from cluster import own_database
from myriant.api.app import make_app
from myriant.api.live import Live
from myriant.blobs import Blobs
from myriant.cli.database import free_port
from myriant.cli.main import app as commands
from myriant.cli.place import Place
from myriant.flow.admin.people import ensure_account, make_token
from myriant.flow.sealing import make_key
from myriant.flow.site import Site
from myriant.flow.tasks import due_looks, look_at, sweep, task_app
from myriant.repos.git import git
from myriant.runner.attempt import Execution
from myriant.runner.client import Server
from myriant.runner.held import Hold
from myriant.runner.inside.main import serve
from myriant.runner.porter import Porter
from myriant.runner.program import machine_labels
from myriant.runner.runtimes import Runtime, find_runtimes
from myriant.runner.sandbox import Room, Sandbox
from myriant.store.engine import Store
from myriant.store.queue import INWARD, OUTWARD
from myriant.wire.lease import Lease
from waiting import until
from worlds import PLAN, Repository, World

T = TypeVar("T")
_MAKE = """
git init --quiet --initial-branch=main "$0"
git -C "$0" config receive.denyCurrentBranch ignore
git init --quiet --initial-branch=main "$1"
rm -rf "$1/.git/objects"
ln -s "$0/.git/objects" "$1/.git/objects"
cd "$1"
git remote add origin "$0"
git config user.name "Ada Fen"
git config user.email ada@fenmark.example
"""
NOWHERE = "0" * 40
ADDRESS = "http://stories.example"
_ROUNDS = 200  # of tasks and attempts that follow from one call


@cache
def runtimes() -> list[Runtime]:
    """Lua's of this machine: the only ones that tests may count on."""
    return [r for r in find_runtimes(None) if r.family == "lua"]


class InProcess(httpx.BaseTransport):
    """Requests answered by an application that runs in a loop of another thread."""

    def __init__(self, app: FastAPI, loop: Loop) -> None:
        self._inner, self._loop = httpx.ASGITransport(app=app), loop

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        body = request.read()

        async def ask() -> httpx.Response:
            asked = httpx.Request(request.method, request.url, headers=request.headers, content=body)
            answer = await self._inner.handle_async_request(asked)
            assert isinstance(answer.stream, httpx.AsyncByteStream)
            raw = b"".join([piece async for piece in answer.stream])
            return httpx.Response(answer.status_code, headers=answer.headers, stream=httpx.ByteStream(raw))

        answer = self._loop.run(ask())
        answer.request = request
        return answer


class Loop:
    """An event loop in a thread of its own."""

    def __init__(self) -> None:
        self.loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self.loop.run_forever, daemon=True)
        self._thread.start()

    def run(self, asked: Awaitable[T]) -> T:
        async def wait() -> T:
            return await asked

        return asyncio.run_coroutine_threadsafe(wait(), self.loop).result()

    def end(self) -> None:
        self.loop.call_soon_threadsafe(self.loop.stop)
        self._thread.join()
        self.loop.close()


class _Porter(Porter):
    """The porter as a thread: what steps left is looked at by the same code."""

    def _begun(self) -> Any:
        if self._process is None:
            self._process = _Thread()  # type: ignore[assignment]
        return self._process

    def _drop(self) -> None:
        process, self._process = self._process, None
        if process is not None:
            process.end()  # type: ignore[attr-defined]


class _Thread:
    pid = None

    def __init__(self) -> None:
        source, asks = os.pipe()
        answers, out = os.pipe()
        self.stdin, self.stdout = os.fdopen(asks, "wb"), os.fdopen(answers, "rb")
        self._source, self._out = os.fdopen(source, "rb"), os.fdopen(out, "wb")
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()

    def _serve(self) -> None:
        with self._source, self._out:
            serve(self._source, self._out)

    def end(self) -> None:
        self.stdin.close()
        self._thread.join()
        self.stdout.close()


class _Room(Room):
    """Folders of whoever runs the tests."""

    __slots__ = ()

    def give_to_user(self) -> None:
        return None


class _Unbound(Hold):
    """A bound on memory that nothing exceeds: no processes are looked for."""

    def __init__(self) -> None:
        return None

    def within(self, command: Sequence[str]) -> list[str]:
        return list(command)

    def killed(self) -> int:
        return 0


class _Execution(Execution):
    """An attempt without walls; its porter is a thread."""

    def __init__(self, lease: Lease, server: Server, base: Path, checkout: Callable[[Path], None]) -> None:
        super().__init__(
            lease, server, Sandbox(bubblewrap=False, root=False), runtimes(), (), base, os.getuid(), checkout=checkout
        )
        room = _Room(self.ground.room.base, self.ground.room.user, self.ground.room.shown)
        self.ground.room, self.ground.porter = room, _Porter(self.ground.sandbox, room)
        self.ground.hold = _Unbound()

    def clean(self) -> None:
        self.ground.porter.kill()
        shutil.rmtree(self.ground.room.base, ignore_errors=True)


class StoryRunner:
    """A runner that works when it is told to, one attempt after another."""

    def __init__(
        self, site: Site, server: Server, folder: Path, name: str = "story", labels: Sequence[str] = ()
    ) -> None:
        self.site, self.server, self.folder, self.boot = site, server, folder, f"{name}-1"
        self._trees: dict[str, bytes] = {}
        told = {
            "name": name,
            "slots": 64,
            "runtimes": [asdict(r) | {"path": str(r.path)} for r in runtimes()],
            "labels": [*machine_labels(), *labels],
            "price": 0.0,
            "machine": {},
            "isolation": "none",
            "version": "story",
            "boot": self.boot,
        }
        self.id = server.enrol(told).runner

    def work(self, most: int | None = None) -> int:
        """Run what can be taken now; how many attempts."""
        leases = self.server.claim(self.id, self.boot, most or 64, [], 0)
        for lease in leases:
            execution = _Execution(lease, self.server, self.folder / f"attempt-{lease.attempt}", self._checkout(lease))
            try:
                execution.run()
            finally:
                execution.clean()
        return len(leases)

    def _checkout(self, lease: Lease) -> Callable[[Path], None]:
        with self.site.store.view() as session:
            project = session.scalar(text("SELECT id FROM project WHERE name = :name"), {"name": lease.project})

        def fill(workspace: Path) -> None:
            if lease.commit not in self._trees:
                self._trees[lease.commit] = git(self.site.mirrors / f"{project}.git", "archive", lease.commit)
            with tarfile.open(fileobj=io.BytesIO(self._trees[lease.commit])) as tree:
                tree.extractall(workspace)  # our own tests wrote it

        return fill


class StoryRepository(Repository):
    """A watched repository and a work tree that share their objects; a push is a ref that moves, and its bell."""

    world: Stories

    def git(self, *words: str) -> str:
        """As in any clone; what a push moves is told by the bell."""
        if words[0] != "push":
            return super().git(*words)
        before = self._refs()
        said = super().git(*words)
        return said + self._ring(before, self._refs())

    def push(self, branch: str = "main", *options: str) -> str:
        before, ref = self._refs(), f"refs/heads/{branch}"
        after = super().git("rev-parse", "HEAD").strip()
        git(self.origin, "update-ref", ref, after)
        git(self.tree, "update-ref", f"refs/remotes/origin/{branch}", after)
        return self._ring(before, {**before, ref: after})

    def _refs(self) -> dict[str, str]:
        listed = git(self.origin, "for-each-ref", "--format=%(refname) %(objectname)").decode().splitlines()
        return {name: commit for name, _, commit in (line.partition(" ") for line in listed) if "notes" not in name}

    def _ring(self, before: dict[str, str], after: dict[str, str]) -> str:
        moved = [
            {"ref": ref, "before": before.get(ref, NOWHERE), "after": after.get(ref, NOWHERE)}
            for ref in sorted({*before, *after})
            if before.get(ref) != after.get(ref)
        ]
        answer = self.world.http.post(
            f"/projects/{self.name}/bell",
            json={"moved": moved},
            headers={"Authorization": f"Bearer {self.world.bells[self.name]}"},
        )
        return "\n".join(answer.json()["said"]) if answer.status_code == 200 else answer.text

    def commit(self, files: dict[str, str | None], message: str = "a change") -> str:
        """Write files (None removes one) and commit, by one call of git; the commit's id."""
        head = (self.tree / ".git/HEAD").read_text().strip().removeprefix("ref: ")
        for path, content in files.items():
            target = self.tree / path
            if content is None:
                target.unlink()
            else:
                target.parent.mkdir(parents=True, exist_ok=True)
                target.write_text(content)
        script = 'git add --all && git commit --quiet --allow-empty -m "$0" && git rev-parse HEAD'
        assert head
        done = subprocess.run(
            ["/bin/sh", "-c", script, message], cwd=self.tree, capture_output=True, text=True, check=True
        )
        return done.stdout.strip()

    def run_of(self, commit: str, *, within: float = 0, until: str = "decided") -> dict[str, Any]:
        """The run of a commit; by now all that follows from it has happened."""
        self.world.settle()
        found = self.world.word(commit, self.name)
        assert found is not None and found["run"] is not None, f"{commit} has no run: {found}"
        view: dict[str, Any] = self.world.get(f"/projects/{self.name}/runs/{found['run']}")
        stands = [(c["job"], c["key"], c["state"], c["reason"]) for c in view["cells"]]
        if until == "decided":
            assert found["verdict"] != "undecided" and found["final"], (view["run"]["sentence"], stands)
        return view

    def note(self, commit: str, *, within: float = 0) -> str:
        done = subprocess.run(
            ["git", "-C", str(self.origin), "notes", "--ref=myriant", "show", commit], capture_output=True, text=True
        )
        return done.stdout if done.returncode == 0 else ""


class _Settling(httpx.Client):
    """Whatever is changed through it has all its consequences when the answer is given."""

    settle: Callable[[], None]

    def send(self, request: httpx.Request, **options: Any) -> httpx.Response:
        answer = super().send(request, **options)
        if request.method not in ("GET", "HEAD"):
            self.settle()
        return answer


class Stories(World):
    """An installation without processes; `held` cells stay waiting."""

    def __init__(self, site: Site, folder: Path) -> None:
        self._site, self.folder, self.said = site, folder, []
        self.loop = Loop()
        self.app = app = make_app(site)
        app.state.live = Live(site)
        self._data: Path | None = None
        self._server: uvicorn.Server | None = None
        self._serving: Future[None] | None = None
        account = ensure_account(site, "admin", "admin")
        with site.store.transaction() as session:
            self.token, self.runner_token = (
                make_token(session, "command", account=account),
                make_token(session, "runner"),
            )
        transport = InProcess(app, self.loop)
        self.http = _Settling(
            transport=transport, base_url=f"{ADDRESS}/api/v1", headers={"Authorization": f"Bearer {self.token}"}
        )
        self.http.settle = self.settle
        self.tasks: procrastinate.App = task_app(site)
        self.loop.run(self.tasks.open_async())
        self.bells: dict[str, str] = {}
        self.runner = StoryRunner(site, Server(ADDRESS, self.runner_token, transport), folder / "work")
        self.working = True  # whether the runner takes what waits
        self._settling = False

    @property
    def address(self) -> str:
        return ADDRESS

    @property
    def site(self) -> Site:
        return self._site

    def end(self) -> None:
        if self._server is not None and self._serving is not None:
            self._server.should_exit = True
            self._serving.result()
        self.loop.run(self.tasks.close_async())
        self.loop.end()
        self.site.store.close()

    def command(self, *words: str, cwd: Path | None = None) -> subprocess.CompletedProcess[str]:
        """A command of this installation, in this process, against its server on a port of loopback."""
        if self._data is None:
            self._data = self._serve()
        here = Path.cwd()
        os.chdir(cwd or here)
        try:
            done = CliRunner().invoke(commands, list(words), env={"MYRIANT_DATA": str(self._data)})
        finally:
            os.chdir(here)
        if done.exception is not None and not isinstance(done.exception, SystemExit):
            raise done.exception
        self.settle()
        return subprocess.CompletedProcess(words, done.exit_code, done.stdout, done.stderr)

    def _serve(self) -> Path:
        """Answer on a port too; the data directory in which commands find it."""
        port = free_port()
        server = uvicorn.Server(uvicorn.Config(self.app, port=port, lifespan="off", log_level="warning"))
        self._serving = asyncio.run_coroutine_threadsafe(server.serve(), self.loop.loop)
        self._server = server
        place = Place(self.folder / "data")
        place.make()
        place.write_connection(f"http://127.0.0.1:{port}", self.token, self.site.store.url)
        until(lambda: server.started)
        return place.data

    def settle(self) -> None:
        """Let everything happen that follows from what has happened. A task that fails fails the test."""
        if self._settling:
            return
        self._settling = True
        try:
            for _ in range(_ROUNDS):
                if not self._work_tasks() and not (self.working and self.runner.work()):
                    return
            raise AssertionError(f"after {_ROUNDS} rounds there is still something to do")
        finally:
            self._settling = False

    def sweep(self) -> None:
        """What the worker does again and again, and what follows."""
        failed = sweep(self.site)
        assert not failed, f"upkeep failed, see the log: {failed}"
        for project in due_looks(self.site):
            look_at(self.site, project)
        self.settle()

    @contextmanager
    def nobody_working(self) -> Iterator[None]:
        """Cells stay waiting meanwhile."""
        self.working = False
        try:
            yield
        finally:
            self.working = True
            self.settle()

    def _work_tasks(self) -> bool:
        if not self._todo():
            return False
        self.loop.run(
            self.tasks.run_worker_async(
                queues=[INWARD, OUTWARD],
                wait=False,
                concurrency=1,
                listen_notify=False,
                delete_jobs="successful",
                install_signal_handlers=False,
            )
        )
        with self.site.store.view() as session:
            failed = session.execute(
                text("SELECT task_name, args FROM procrastinate_jobs WHERE attempts > 0 AND status <> 'succeeded'")
            ).all()
        assert not failed, f"tasks failed, see the log: {failed}"
        return True

    def _todo(self) -> bool:
        with self.site.store.view() as session:
            return bool(
                session.scalar(
                    text(
                        "SELECT EXISTS (SELECT FROM procrastinate_jobs WHERE status = 'todo'"
                        " AND (scheduled_at IS NULL OR scheduled_at <= now()))"
                    )
                )
            )

    def repository(self, name: str, plan: str | None = PLAN, **files: str) -> StoryRepository:
        """A watched repository with a plan and, when files are given, a first pushed commit that was judged.

        It has a work tree of its own, so that no hook is installed in it, and shares its objects with the test's.
        """
        origin, tree = self.folder / f"{name}.git", self.folder / f"{name} tree"
        subprocess.run(["/bin/sh", "-e", "-c", _MAKE, str(origin), str(tree)], check=True, capture_output=True)
        answer = self.http.post("/projects", json={"address": str(origin), "name": name})
        assert answer.status_code == 201, answer.text
        with self.site.store.transaction() as session:
            number = session.scalar(text("SELECT id FROM project WHERE name = :name"), {"name": name})
            self.bells[name] = make_token(session, "hook", project=number)
        repository = StoryRepository(self, name, origin, tree)
        if plan is not None and files:
            repository.pushed({"myriant.toml": plan, **{k.replace("__", "."): v for k, v in files.items()}}, "first")
        elif plan is not None:
            repository.commit({"myriant.toml": plan}, "first")
        return repository


class Clock:
    """Time as stories have it: who waits has the worker's upkeep done instead, and need not wait."""

    def __init__(self, world: Stories) -> None:
        self._world, self._ahead = world, 0.0

    def monotonic(self) -> float:
        return time.monotonic() + self._ahead

    def time(self) -> float:
        return time.time()

    def sleep(self, seconds: float) -> None:
        self._ahead += max(seconds, 3.0)
        self._world.sweep()


def one_story_world() -> Iterator[Stories]:
    """A database of its own, gone afterwards."""
    folder = Path(tempfile.mkdtemp(prefix="myriant-stories-"))
    folder.chmod(0o755)
    try:
        with own_database() as url:
            make_key(folder / "key")
            store = Store(url, size=5)
            site = Site(store, Blobs(str(folder / "blobs")), folder / "mirrors", ADDRESS, folder / "key")
            (folder / "work").mkdir()
            world = Stories(site, folder)
            try:
                yield world
            finally:
                world.end()
    finally:
        shutil.rmtree(folder, ignore_errors=True)
