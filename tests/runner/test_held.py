"""Control groups: what is written where, in a made-up tree of either version; and that the kernel holds to it."""

from __future__ import annotations

import os
import subprocess
import threading
import time
from pathlib import Path

import pytest

from myriant.runner.held import Hold, clear, hold, name_of
from myriant.runner.process import Bounds, Watched


def tree(folder: Path, version: int, delegated: bool = True) -> tuple[Path, Path]:
    """A made-up /sys/fs/cgroup and /proc/self/cgroup."""
    own = folder / "own"
    if version == 1:
        for controller in ("memory", "pids"):
            (folder / controller / "ours").mkdir(parents=True)
            (folder / controller / "cgroup.procs").touch()
        own.write_text("8:pids:/ours\n4:memory:/ours\n0::/\n")
        return folder, own
    place = folder / "ours"
    place.mkdir()
    (place / "cgroup.controllers").write_text("cpu memory pids\n" if delegated else "cpu\n")
    (place / "cgroup.subtree_control").write_text("")
    (place / "cgroup.procs").write_text("41\n")
    own.write_text("0::/ours\n")
    return folder, own


@pytest.mark.parametrize("version", [1, 2])
def test_limits_are_written_where_the_controllers_are(tmp_path: Path, version: int) -> None:
    root, own = tree(tmp_path, version)
    kept = hold("a1-7", 1000, 50, root, own)
    assert kept is not None and kept.version == version
    memory, pids = (tmp_path / "memory/ours", tmp_path / "pids/ours") if version == 1 else (tmp_path / "ours",) * 2
    limit = "memory.limit_in_bytes" if version == 1 else "memory.max"
    assert (memory / "myriant-a1-7" / limit).read_text() == "1000"
    assert (pids / "myriant-a1-7/pids.max").read_text() == "50"
    if version == 2:  # the runner itself went beside them: a group with processes passes no controller on
        assert (tmp_path / "ours/myriant-runner/cgroup.procs").read_text() == "41"
        assert (tmp_path / "ours/cgroup.subtree_control").read_text() == "+memory +pids"
        (tmp_path / "ours/cgroup.controllers").write_text("memory pids\n")  # these two and no other
        assert hold("a1-8", 1000, 50, root, own) is not None
    events = memory / "myriant-a1-7" / ("memory.oom_control" if version == 1 else "memory.events")
    assert kept.killed() == 0
    events.write_text("low 0\noom_kill 3\n")
    assert kept.killed() == 3
    words = kept.within(["true"])
    assert words[4] == str(len(kept.folders)) and words[-1] == "true"


def test_groups_whose_limits_cannot_be_set_are_taken_away(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    root, own = tree(tmp_path, 2)
    ended: list[Hold] = []
    monkeypatch.setattr(Hold, "end", lambda self: ended.append(self))
    (tmp_path / "ours/myriant-a1-7/pids.max").mkdir(parents=True)  # nothing can be written there
    assert hold("a1-7", 1000, 50, root, own) is None
    assert [e.folders for e in ended] == [(tmp_path / "ours/myriant-a1-7",)]


def test_where_no_group_can_be_made_the_runner_watches(tmp_path: Path) -> None:
    root, own = tree(tmp_path, 2, delegated=False)
    assert hold("a1-7", 1000, 50, root, own) is None
    assert hold("a1-7", 1000, 50, tmp_path / "none", own) is None
    own.write_text("not a line")
    assert hold("a1-7", 1000, 50, root, own) is None
    clear("a1", root, own)
    assert name_of(Path("/work/a")) != name_of(Path("/work/b"))


FORKS = """\
import os, sys, time
begun = 0
try:
    while begun < 60:
        if os.fork() == 0:
            time.sleep(2)
            os._exit(0)
        begun += 1
except OSError:
    pass
sys.exit(begun)
"""


@pytest.fixture
def kept() -> Hold:
    found = hold(f"test-{os.getpid()}", 40 << 20, 20)
    if found is None:
        pytest.skip("this machine gives no control group to us")
    return found


@pytest.mark.parametrize(
    ("command", "said"),
    [
        (["python3", "-c", "x = b'1' * (200 << 20)"], "it took more than 40 MiB of memory"),
        # spread over processes that are each below it
        (
            [
                "sh",
                "-c",
                "for i in 1 2 3 4 5 6; do python3 -c 'x = b\"1\" * (12 << 20); import time; time.sleep(9)' & done; wait",
            ],
            "it took more than 40 MiB of memory",
        ),
        # what lies in a file system of memory counts too
        (
            [
                "sh",
                "-c",
                "head -c 200000000 /dev/zero > /dev/shm/myriant-held; s=$?; rm -f /dev/shm/myriant-held; exit $s",
            ],
            "it took more than 40 MiB of memory",
        ),
        (["python3", "-c", FORKS], ""),
        (["true"], ""),
    ],
)
def test_the_kernel_holds_an_attempt_to_its_memory_and_processes(
    tmp_path: Path, kept: Hold, command: list[str], said: str
) -> None:
    watched = Watched(kept.within(command), dict(os.environ), None)
    bounds = Bounds(tmp_path, None, 1 << 60, 40 << 20, hold=kept)
    ended = watched.follow(lambda data: None, time.monotonic() + 60, bounds, threading.Event())
    assert ended.over == said and not ended.timed_out
    if command[-1] == FORKS:
        assert 2 < ended.status < 20, "it says how many processes it could begin beside itself, of twenty at most"
    kept.end()
    assert not any(folder.exists() for folder in kept.folders)


@pytest.mark.parametrize(("size", "said"), [(120 << 20, "it took more than 40 MiB of memory"), (1 << 20, "")])
def test_without_groups_memory_is_watched(tmp_path: Path, size: int, said: str) -> None:
    program = f"x = b'1' * {size}; import time; time.sleep({60 if said else 0})"
    watched = Watched(["python3", "-c", program], dict(os.environ), None)
    bounds = Bounds(tmp_path, None, 1 << 60, 40 << 20)
    assert watched.follow(lambda data: None, time.monotonic() + 60, bounds, threading.Event()).over == said


def test_what_a_killed_runner_left_is_ended_at_the_next_start(kept: Hold) -> None:
    left = subprocess.Popen(kept.within(["sleep", "600"]), start_new_session=True)
    deadline = time.monotonic() + 30
    while not any((folder / "cgroup.procs").read_text().split() for folder in kept.folders):
        assert time.monotonic() < deadline
        time.sleep(0.01)
    clear("test")
    assert left.wait(30) == -9 and not any(folder.exists() for folder in kept.folders)


@pytest.mark.parametrize(
    ("left", "command", "ended"),
    [
        (0, ["sleep", "600"], (True, "the runner's disk is full: 0 bytes are left", False)),
        (1 << 40, ["sh", "-c", "echo the disk is full; sleep 600"], (False, "", True)),
    ],
)
def test_only_a_disk_that_is_full_is_the_machines_fault_whatever_a_step_says(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, left: int, command: list[str], ended: tuple[bool, str, bool]
) -> None:
    monkeypatch.setattr("myriant.runner.process.free_on", lambda room: left)
    bounds = Bounds(tmp_path, None, 1 << 60)
    seconds = 60.0 if not left else 1.0
    found = Watched(command, dict(os.environ), None).follow(
        lambda data: None, time.monotonic() + seconds, bounds, threading.Event()
    )
    assert (found.disk_full, found.over, found.timed_out) == ended
