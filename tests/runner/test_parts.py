"""The runner's parts: what it finds, what it takes as a report, how it keeps a log."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

import pytest

from myriant.runner.log import PIECE, AttemptLog
from myriant.runner.removal import remove
from myriant.runner.runtimes import FAMILIES, BadRegister, Runtime, find_runtimes, home_of, link_runtime, trace
from myriant.runner.sandbox import Room, Sandbox, find_sandbox

SOURCES = Path(__file__).parents[2] / "src"


_LOOKING = """
from myriant.runner.runtimes import find_runtimes, trace
assert trace() and find_runtimes(), "what may be seen is found"
"""


def test_folders_of_path_that_the_runner_may_not_see_are_passed_over(tmp_path: Path) -> None:
    closed = tmp_path / "somebodys"
    (closed / "bin").mkdir(parents=True)
    closed.chmod(0o000)
    user = ["setpriv", "--reuid", "65534", "--regid", "65534", "--clear-groups"] if os.geteuid() == 0 else []
    around = {"PATH": f"{closed / 'bin'}:/usr/bin:/bin", "HOME": str(closed), "PYTHONPATH": str(SOURCES)}
    words = [*user, sys.executable, "-c", _LOOKING]
    done = subprocess.run(words, env=around, cwd="/", capture_output=True, text=True, check=False)
    closed.chmod(0o700)
    assert done.returncode == 0, done.stderr


def test_every_lua_of_this_machine_is_found_by_asking_it() -> None:
    found = {r.version: r for r in find_runtimes() if r.family == "lua"}
    for wish in ("5.1", "5.2", "5.3", "5.4"):
        runtime = next(r for r in found.values() if r.meets(wish))
        said = subprocess.run([runtime.path, "-v"], capture_output=True, text=True)
        assert f"Lua {runtime.version}" in said.stdout + said.stderr
    assert len({(r.family, r.version) for r in find_runtimes()}) == len(find_runtimes())


@pytest.mark.parametrize(
    ("wish", "meets"),
    [("3.12", True), ("3.12.1", True), ("3", True), ("3.1", False), ("3.12.10", False), ("system", False)],
)
def test_a_version_meets_its_own_parts_only(wish: str, meets: bool) -> None:
    assert Runtime("python", "3.12.1", Path("/opt/p/bin/python")).meets(wish) is meets


def test_a_linked_runtime_answers_to_its_plain_names(tmp_path: Path) -> None:
    runtime = next(r for r in find_runtimes() if r.family == "lua" and r.meets("5.1"))
    link_runtime(runtime, tmp_path)
    assert (tmp_path / "lua").resolve() == runtime.path


def test_a_log_is_delivered_whole_though_the_other_side_forgets_and_pauses(tmp_path: Path) -> None:
    kept = bytearray()
    calls = []

    def send(offset: int, data: bytes, at: str) -> int:
        calls.append((offset, len(data)))
        if len(calls) == 2:
            return offset  # nothing was kept: the same piece comes again
        assert offset == len(kept)
        kept.extend(data)
        return len(kept)

    log = AttemptLog(tmp_path / "log", send)
    written = b"".join(b"line %d\n" % i for i in range(60_000))
    for at in range(0, len(written), 7_001):
        log.append(written[at : at + 7_001])
    log.close()
    assert bytes(kept) == written and max(size for _, size in calls) <= PIECE


def test_output_beyond_the_most_is_counted_and_words_of_the_runner_still_fit(tmp_path: Path) -> None:
    kept = bytearray()

    def send(offset: int, data: bytes, at: str) -> int:
        kept[offset:] = data
        return len(kept)

    log = AttemptLog(tmp_path / "log", send, most=10)
    for _ in range(5):
        log.append(b"abcd")
    log.say("that was all")
    log.close()
    assert bytes(kept) == b"abcdabcdabthat was all\n" and log.left_out == 10


def test_a_failed_delivery_is_raised_at_the_end(tmp_path: Path) -> None:
    def send(offset: int, data: bytes, at: str) -> int:
        raise ConnectionError("gone")

    log = AttemptLog(tmp_path / "log", send)
    log.append(b"x")
    with pytest.raises(ConnectionError):
        log.close()


@pytest.fixture
def room(tmp_path: Path) -> Room:
    made = Room(Path("/var/tmp") / f"myriant-room-{os.getpid()}-{time.monotonic_ns()}", 61999)
    made.make()
    made.give_to_user()
    return made


def inside(sandbox: Sandbox, room: Room, script: str) -> str:
    command, environment, folder = sandbox.command(
        ["/bin/sh", "-c", script], room=room, environment={"PATH": "/usr/bin:/bin", "HOME": "/home/cell"}
    )
    return subprocess.run(
        command, env=environment, cwd=folder, capture_output=True, text=True, stdin=subprocess.DEVNULL
    ).stdout


def test_walls_stand_on_every_side(room: Room, tmp_path: Path) -> None:
    sandbox = find_sandbox(tmp_path)
    if not sandbox.bubblewrap:
        pytest.skip(sandbox.warning)
    said = inside(
        sandbox,
        room,
        "whoami; hostname; touch /usr/mine 2>/dev/null || echo no writing; ls / ; ps ax 2>/dev/null | wc -l; kill -9 1; "
        "cat /proc/1/environ 2>/dev/null; grep -e CapEff /proc/self/status; grep 'Max processes' /proc/self/limits; read line || echo no input; echo kept > /workspace/file",
    )
    for part in ("cell", "no writing", "no input"):
        assert part in said.split("\n"), said
    assert (
        "Max processes             2048" in said
        and "root" not in said.split()
        and "work" not in said.split()
        and "CapEff:\t0000000000000000" in said
    )
    assert (room.workspace / "file").read_text() == "kept\n"
    assert room.base.stat().st_mode & 0o777 == 0o700, "no other user of the machine looks in"
    assert remove(sandbox, room) and not room.base.exists()


SHARING = """python3 -c '
import multiprocessing as m
lock, queue = m.Lock(), m.Queue()
def work(n):
    with lock: queue.put(n * n)
several = [m.Process(target=work, args=(n,)) for n in range(4)]
for p in several: p.start()
print("shared", sorted(queue.get() for p in several))
from multiprocessing.shared_memory import SharedMemory
block = SharedMemory(create=True, size=1 << 20); block.close(); block.unlink()
print("block")
'; ls /dev/shm | wc -l; head -c 1100000000 /dev/zero > /dev/shm/much 2>/dev/null || echo bounded"""


@pytest.mark.parametrize("root", [True, False])
def test_processes_of_a_step_share_memory_within_a_bound(tmp_path: Path, root: bool) -> None:
    """Locks, queues and blocks of shared memory lie in /dev/shm, which bubblewrap gives to root alone."""
    if os.geteuid() != 0 or not find_sandbox(tmp_path).bubblewrap:
        pytest.skip("only root tries both kinds of walls")
    base = Path(tempfile.mkdtemp(prefix="myriant-sharing-"))
    ask = (
        "import os, sys, subprocess; from pathlib import Path; from myriant.runner.sandbox import *\n"
        f"room = Room(Path({str(base / 'room')!r}), FIRST_USER); room.make(); room.give_to_user()\n"
        f"told = Sandbox(True, {root}).command(['/bin/sh', '-c', sys.argv[1]], room=room, environment={{'PATH': '/usr/bin:/bin'}})\n"
        "print(subprocess.run(told[0], env=told[1], cwd=told[2], capture_output=True, text=True).stdout)\n"
    )
    try:
        if not root:
            os.chown(base, 65534, 65534)
        asked = [sys.executable, "-c", ask, SHARING]
        who = [] if root else ["setpriv", "--reuid", "65534", "--regid", "65534", "--clear-groups"]
        done = subprocess.run([*who, *asked], capture_output=True, text=True, cwd="/")
        if not root and "Permission denied" in done.stderr:
            pytest.skip("an ordinary user cannot read this checkout")
        assert done.stdout.split("\n")[:4] == ["shared [0, 1, 4, 9]", "block", "0", "bounded"], (
            done.stdout + done.stderr
        )
    finally:
        shutil.rmtree(base)


@pytest.mark.parametrize("below", ["/tmp", "/home", "/opt"])
def test_a_shared_folder_is_seen_at_its_own_path_wherever_it_lies(room: Room, tmp_path: Path, below: str) -> None:
    sandbox = find_sandbox(tmp_path)
    if not sandbox.bubblewrap:
        pytest.skip(sandbox.warning)
    shared = Path(tempfile.mkdtemp(dir=below, prefix="myriant-shared-"))
    try:
        shared.chmod(0o755)
        (shared / "wheel").write_text("round")
        seen = Room(room.base, room.user, (shared,))
        assert (
            inside(
                sandbox,
                seen,
                f"cat {shared}/wheel; touch {shared}/mine 2>/dev/null || echo; touch /tmp/mine && echo own",
            )
            == "round\nown\n"
        )
    finally:
        shutil.rmtree(shared)
        assert remove(sandbox, room)


def test_what_a_step_makes_unremovable_is_removed(room: Room, tmp_path: Path) -> None:
    sandbox = find_sandbox(tmp_path)
    inside(
        sandbox, room, "mkdir -p /workspace/a/b/c; touch /workspace/a/b/c/d; chmod 000 /workspace/a/b/c /workspace/a"
    )
    assert remove(sandbox, room) and not room.base.exists()


def test_a_thousand_children_end_with_their_step(room: Room, tmp_path: Path) -> None:
    sandbox = find_sandbox(tmp_path)
    if not sandbox.bubblewrap:
        pytest.skip(sandbox.warning)
    mark = f"4{os.getpid()}"
    stopper = threading.Timer(20, lambda: subprocess.run(["pkill", "-f", f"sleep {mark}"]))
    stopper.start()
    inside(sandbox, room, f"i=0; while [ $i -lt 200 ]; do sleep {mark} & i=$((i+1)); done; (setsid sleep {mark} &)")
    stopper.cancel()
    assert subprocess.run(["pgrep", "-f", f"^sleep {mark}"], capture_output=True).returncode == 1
    assert remove(sandbox, room)


@pytest.mark.parametrize(
    ("program", "family"),
    [
        ("node", "node"),
        ("java", "java"),
        ("perl", "perl"),
        ("php", "php"),
        ("ruby", "ruby"),
        ("go", "go"),
        ("gcc", "gcc"),
        ("clang", "clang"),
        ("dotnet", "dotnet"),
        ("python3", "python"),
    ],
)
def test_a_runtime_of_this_machine_is_found_and_can_be_called_by_its_plain_names(
    program: str, family: str, tmp_path: Path
) -> None:
    if not Path(f"/usr/bin/{program}").exists():
        pytest.skip(f"{program} is not on this machine")
    found = [r for r in find_runtimes() if r.family == family and r.system]
    assert len(found) == 1 and found[0].meets("system") and found[0].meets(found[0].version.split(".")[0])
    link_runtime(found[0], tmp_path)
    name = FAMILIES[family].plain[0]
    said = subprocess.run(
        [tmp_path / name, *FAMILIES[family].ask], capture_output=True, text=True, env={"PATH": "/usr/bin:/bin"}
    )
    assert FAMILIES[family].answer.search(said.stdout + said.stderr)
    for variable, home in home_of(found[0]).items():
        assert variable.isupper() and (Path(home) / "bin").is_dir()


def test_registered_runtimes_are_asked_too_and_a_bad_file_is_refused(tmp_path: Path) -> None:
    program = tmp_path / "old" / "lua"
    program.parent.mkdir()
    program.write_text("#!/bin/sh\necho 'Lua 5.0.3  Copyright'\n")
    program.chmod(0o755)
    before = trace()
    register = tmp_path / "runtimes.toml"
    register.write_text(f'[[runtime]]\nfamily = "lua"\npath = "{program}"\n')
    found = next(r for r in find_runtimes(register) if r.version == "5.0.3")
    assert (found.family, found.path, found.root) == ("lua", program, tmp_path)
    assert trace() == before
    for text, why in (
        ("[[runtime", "cannot be read"),
        ('[[runtime]]\nfamily = "fen"\npath = "/bin/sh"\n', "has a family"),
        ('[[runtime]]\nfamily = "lua"\npath = "/no"\n', "is no program"),
        ("runtime = [3]\n", "has a family"),
    ):
        register.write_text(text)
        with pytest.raises(BadRegister, match=why):
            find_runtimes(register)
    with pytest.raises(BadRegister, match="cannot be read"):
        find_runtimes(tmp_path / "absent.toml")
