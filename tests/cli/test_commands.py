"""The commands: what they print for people and programs, and how they refuse."""

from __future__ import annotations

import fcntl
import json
import os
import shutil
import signal
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from myriant.cli.database import free_port
from myriant.cli.place import Place
from myriant.cli.up import Installation

PROGRAM = Path(__file__).parents[2] / ".venv/bin/myriant"
JUNIT = """<testsuite name="s"><testcase classname="c" name="a" time="0.5"/>
<testcase classname="c" name="b"><failure message="expected 1, got 2">trace</failure></testcase></testsuite>"""
LCOV = "SF:gate.lua\nDA:1,1\nDA:2,0\nDA:3,0\nDA:7,0\nend_of_record\n"
PLAN = 'version = 1\n[jobs.unit]\nvary = { lua = ["5.1", "5.4"] }\nruntime = ["lua"]\n[[jobs.unit.steps]]\ncommand = "true"\n'


def run(*words: str, cwd: Path | None = None) -> subprocess.CompletedProcess[str]:
    return subprocess.run([str(PROGRAM), *words], cwd=cwd, capture_output=True, text=True, timeout=60)


@pytest.fixture
def folder() -> Iterator[Path]:
    made = Path(tempfile.mkdtemp(prefix="myriant-cli-"))
    made.chmod(0o755)
    yield made
    shutil.rmtree(made, ignore_errors=True)


def test_inspect_results_says_every_case_and_problem(folder: Path) -> None:
    (folder / "good.xml").write_text(JUNIT)
    (folder / "cut.xml").write_text(JUNIT[:90])
    done = run("inspect", "results", "good.xml", "cut.xml", "none.xml", "--json", cwd=folder)
    good, cut, none = json.loads(done.stdout)["files"]
    assert done.returncode == 1
    assert {k: good[k] for k in ("file", "format", "problems", "total", "passed", "failed", "errored", "skipped")} == {
        "file": "good.xml",
        "format": "junit",
        "problems": [],
        "total": 2,
        "passed": 1,
        "failed": 1,
        "errored": 0,
        "skipped": 0,
    }
    assert good["cases"][0] == {
        "suite": "s",
        "class": "c",
        "name": "a",
        "outcome": "passed",
        "seconds": 0.5,
        "message": "",
        "detail": "",
    }
    assert (
        good["cases"][1]["outcome"] == "failed"
        and good["cases"][1]["seconds"] is None
        and good["cases"][1]["detail"] == "trace"
    )
    assert cut["problems"][0]["level"] == "error" and cut["problems"][0]["line"] == 2 and cut["total"] == 1
    assert "no such file" in none["problems"][0]["message"]
    plain = run("inspect", "results", "good.xml", cwd=folder)
    assert plain.returncode == 0 and "failed: c › b: expected 1, got 2" in plain.stdout


def test_inspect_coverage_says_what_is_not_covered(folder: Path) -> None:
    (folder / "a.info").write_text(LCOV)
    done = run("inspect", "coverage", "a.info", "--json", cwd=folder)
    [found] = json.loads(done.stdout)["files"]
    assert done.returncode == 0
    assert found == {
        "file": "a.info",
        "format": "lcov",
        "problems": [],
        "lines_valid": 4,
        "lines_covered": 1,
        "branches_valid": 0,
        "branches_covered": 0,
        "functions_valid": 0,
        "functions_covered": 0,
        "by_file": [{"path": "gate.lua", "lines_valid": 4, "lines_covered": 1, "uncovered": [2, 3, 7]}],
    }
    assert "not covered: 2-3, 7" in run("inspect", "coverage", "a.info", cwd=folder).stdout
    (folder / "b.info").write_text("hello")
    assert run("inspect", "coverage", "b.info", cwd=folder).returncode == 1


def test_plan_commands_check_and_expand(folder: Path) -> None:
    (folder / "myriant.toml").write_text(PLAN)
    assert run("plan", "check", cwd=folder).returncode == 0
    cells = json.loads(
        run("plan", "cells", "myriant.toml", "--event", "push", "--branch", "main", "--json", cwd=folder).stdout
    )["cells"]
    assert (
        cells[0] == {"job": "unit", "values": {"lua": "5.1"}, "selected": True, "advisory": False} and len(cells) == 2
    )
    (folder / "bad.toml").write_text(PLAN.replace("runtime", "runtim"))
    done = run("plan", "check", "bad.toml", "--json", cwd=folder)
    [problem] = json.loads(done.stdout)["problems"]
    assert done.returncode == 1
    assert problem == {
        "level": "error",
        "file": "bad.toml",
        "line": 4,
        "column": 1,
        "text": "runtim",
        "message": 'unknown key "runtim" in job unit',
        "mend": "did you mean runtime?",
        "edits": [{"line": 4, "column": 1, "end_line": 4, "end_column": 7, "text": "runtime"}],
    }
    assert run("plan", "cells", "bad.toml", cwd=folder).returncode == 1
    assert run("plan", "check", "none.toml", cwd=folder).returncode == 2


def up(data: Path, port: int) -> str:
    done = run("up", "--data", str(data), "--port", str(port))
    assert done.returncode == 1
    return done.stderr


def test_a_taken_port_is_said_before_anything_starts(folder: Path) -> None:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        assert f"port {port} of 127.0.0.1 is taken" in up(folder / "data", port)


def test_a_full_disk_is_said_before_anything_starts(folder: Path) -> None:
    small = folder / "small"
    small.mkdir()
    if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=40m", "none", str(small)], capture_output=True).returncode:
        pytest.skip("this machine lets nobody mount")
    try:
        said = up(small / "data", free_port())
        assert "has 40 MB left, at least 300 MB are needed" in said and "--data" in said
    finally:
        subprocess.run(["umount", str(small)], check=True)


def test_damaged_and_doubly_used_data_directories_are_told_apart(folder: Path) -> None:
    installation = Installation(Place(folder / "data"), free_port(), 1, tell=lambda _: None)
    try:
        installation.begin()
        said = up(folder / "data", free_port())
        assert f"runs on {folder / 'data'} already (process {os.getpid()})" in said
    finally:
        installation.stop()
    with (folder / "data/private/lock").open("w") as earlier:  # as a version before held it
        fcntl.flock(earlier, fcntl.LOCK_EX)
        assert "runs on" in up(folder / "data", free_port())
    control = folder / "data/postgres/cluster/global/pg_control"
    control.write_bytes(b"\0" * 8192)
    said = up(folder / "data", free_port())
    assert "the database does not start" in said and "restore" in said
    (folder / "data/postgres/cluster/PG_VERSION").unlink()
    assert "it has no PG_VERSION" in up(folder / "data", free_port())


@pytest.mark.parametrize("way", [signal.SIGINT, signal.SIGTERM])
def test_ctrl_c_stops_everything_however_often_it_comes(folder: Path, way: signal.Signals) -> None:
    words = [str(PROGRAM), "up", "--data", str(folder / "data"), "--port", str(free_port())]
    process = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True)
    assert process.stdout is not None
    said = []
    for line in process.stdout:
        said.append(line)
        if "sign in once" in line:
            break
    for _ in range(3):
        process.send_signal(way)
        time.sleep(0.05)
    rest, _ = process.communicate(timeout=30)
    assert process.returncode == 0 and rest.rstrip().endswith("stopped"), "".join(said) + rest
    left = subprocess.run(["pgrep", "-f", str(folder)], capture_output=True, text=True).stdout
    assert left == ""
