"""Kinds of failure: what real tools said when they were made to fail (tests.bench.shapes), and what is none of a kind."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from myriant.core.diagnosis.kinds import error_line, kind_of, kinds_from, usual_kinds

SHAPES = sorted((Path(__file__).parents[2] / "data/shapes").glob("*.txt"))
HOLES = re.compile(
    r"[{}\[\]]|\(\)|\s[:,]|\s\.(?![\w/])|\s\s|\b(?:at|of|to|the|is|answered|module|program|library|variable|port) ?[:,]"
)


@pytest.mark.parametrize("file", SHAPES, ids=lambda f: f.stem)
def test_what_a_real_tool_said_is_told_as_what_was_done_to_it(file: Path) -> None:
    head, _, log = file.read_text().partition("\n\n")
    kind, status = (line.partition(": ")[2] for line in head.splitlines())
    told = kind_of([log], int(status))
    assert told is not None and told.name == kind, told
    assert not HOLES.search(told.say), told.say
    assert told.line in log or told.line.startswith("exit status")
    assert error_line(log)


def test_there_are_many_of_them() -> None:
    assert len(SHAPES) >= 100


NOT = {
    "companion did not become ready": "companion tide is ready after 2 s",
    "disk full": "412 GB of space left on device",
    "too many open files": "files open: 12",
    "too many processes": "started 4 processes",
    "memory error": "runtime: 3 s, no errors: ERROR SUMMARY: 0 errors from 0 contexts",
    "out of memory": "memory: 412 MB of 2 GB used",
    "stack used up": "stack traceback:",
    "certificate not accepted": "certificate of gauges.example accepted, valid for 30 days",
    "name not resolved": "resolved gauges.example to 10.0.0.7",
    "connection refused": "connected to 127.0.0.1:5432",
    "network unreachable": "network is reachable",
    "database unknown": 'created database "logbook"',
    "database user refused": 'created role "tide"',
    "table or column missing": 'created relation "readings"',
    "database locked or deadlocked": "database is open",
    "too many connections": "12 connections of 100",
    "port taken": "listening on port 8080",
    "clock or time zone": "time zone: UTC",
    "digest of a package differs": "hashes of 12 packages match",
    "runtime too old for a package": "Python 3.8.1 fits requires-python >=3.8",
    "dependencies that exclude one another": "resolved 12 dependencies",
    "version without its tag": "built tide 3.0.dev1",
    "lock file out of date": "package-lock.json is up to date",
    "no such script": "running script tides",
    "configuration cannot be read": "read pyproject.toml",
    "tool too old": "CMake 3.25 is used",
    "shared library missing": "loaded libgauge.so.1",
    "header or library missing": "found gauge.h",
    "syntax of a newer runtime": "syntax checked: 12 files",
    "module missing": "module gauge found",
    "name not exported": "exports tides from gauge",
    "no such version of a package": "Requirement already satisfied: gauge==9",
    "attribute or function missing in this version": "tide.rise is a function",
    "types do not fit": "Success: no issues found in 12 source files",
    "does not compile": "compiled tide.c without an error",
    "archive damaged": "unpacked 12 files",
    "patch does not apply": "patched 2 files",
    "fixture or set-up failed": "set-up took 2 s",
    "test cannot be collected": "collected 12 items",
    "snapshot differs": "12 snapshots passed",
    "display missing": "display :99 is open",
    "browser did not start": "browser started",
    "locale or encoding": "encoding: UTF-8",
    "variable not set": "KeyError: 'tide'",
    "git refused": "git fetched 12 commits",
    "not signed in to a registry": "signed in as ada",
    "connection broken off": "connection closed after 12 answers",
    "service answers with an error": "HTTP/1.1 200 OK",
    "read-only place": "opened read-only",
    "cannot be executed": "executed ./run",
    "file missing": "wrote tides.csv",
    "permission denied": "permissions: rw-r--r--",
    "command not found": "found 12 commands",
    "crashed": "no crash",
    "timeout": "timeout is 60 s",
    "no tests found": "12 tests found",
    "too little covered": "Required test coverage of 80% reached. Total coverage: 83.33%",
    "style differs": "12 files already formatted",
    "values differ": "12 expected values",
    "stopped by a signal": "signals: none",
}


@pytest.mark.parametrize("kind", [k.name for k in usual_kinds()])
def test_what_only_looks_like_a_kind_is_none_of_it(kind: str) -> None:
    told = kind_of([NOT[kind]])
    assert told is None or told.name != kind, told


@pytest.mark.parametrize("kind", usual_kinds(), ids=lambda k: k.name)
def test_a_sentence_has_no_holes_where_nothing_is_known(kind: object) -> None:
    [rule] = kinds_from(f'[[kind]]\nname = "x"\nexit = [9]\nsay = {kind.say!r}\n'.replace("\\\\", "\\"))  # type: ignore[attr-defined]
    told = kind_of(["nothing"], 9, [rule])
    assert told is not None and not HOLES.search(told.say), told.say


def test_a_step_that_ended_by_its_time_limit_had_no_lack_of_memory() -> None:
    told = kind_of(["test was ended by its time limit of 10 min", "…"], 137)
    assert told is not None and told.name == "timeout"


ERRORS = [
    ("compiling\ntide.c:3: error: no such gauge\nmake: *** [all] Error 1\n", "tide.c:3: error: no such gauge"),
    ("reading\nTraceback (most recent call last):\n  File x\nValueError: low water\n", "ValueError: low water"),
    ("a\nb\nlast words\n\n", "last words"),
    ("ok\nfatal: the lock is shut\nmore\n", "fatal: the lock is shut"),
    ("\x1b[31mERROR\x1b[0m the gauge is off\n", "ERROR the gauge is off"),
    ("0 errors, 12 passed\nsh: 1: askharbour: not found\n", "sh: 1: askharbour: not found"),
    ("", ""),
]


@pytest.mark.parametrize(("log", "line"), ERRORS)
def test_the_line_that_says_what_went_wrong_is_found_in_a_log_of_no_kind(log: str, line: str) -> None:
    assert error_line(log) == line
