"""Parts of the runner that keep, trace and name: caches, settings in files, packages, retests, exit statuses."""

from __future__ import annotations

import os
from pathlib import Path

import pytest

from myriant.runner.inside import look
from myriant.runner.inside.beneath import open_folder
from myriant.runner.process import taken_by
from myriant.runner.retest import beside, listed, read
from myriant.runner.tracer import place, trace
from myriant.runner.workspace import explain_status
from worlds import junit

SETTING_FILES = [
    (".env", "export TIDE=low # the usual\n", [(1, "low")]),
    (".env", "TIDE='low # not a comment'\n", [(1, "low # not a comment")]),
    ("a.ini", "[s]\n; TIDE = no\nTIDE = low\n", [(3, "low")]),
    ("a.properties", "#TIDE=no\nTIDE: low\n", [(2, "low")]),
    ("a.yaml", "tides:\n  - TIDE: low\n", [(2, "low")]),
    ("a.toml", 'TIDE = "low"\n', [(1, "low")]),
    ("a.json", '{\n  "TIDE": "low",\n  "x": 1}\n', [(2, "low")]),
    ("a.xml", '<c>\n<TIDE>low</TIDE><p name="TIDE" value="high"/></c>\n', [(2, "low"), (2, "high")]),
    ("a.txt", "TIDE=low\n", []),
    ("node_modules/a.env", "TIDE=low\n", []),
    ("big.env", "TIDE=low\n" + "#" * 300_000, []),
    ("a.env", "TIDES=low\nX_TIDE=low\n", []),
    ("b.env", "\xff\0TIDE=x\nTIDE=low\n", [(2, "low")]),
]


@pytest.mark.parametrize(
    ("name", "content", "found"), SETTING_FILES, ids=[f"{n}-{i}" for i, (n, *_) in enumerate(SETTING_FILES)]
)
def test_files_that_set_a_name_are_found_with_line_and_value(
    tmp_path: Path, name: str, content: str, found: list[tuple[int, str]]
) -> None:
    (tmp_path / name).parent.mkdir(parents=True, exist_ok=True)
    (tmp_path / name).write_bytes(content.encode("latin-1"))
    settings = trace([("defaults", {"TIDE": "ebb"}), ("job", {"TIDE": "low"})])
    place(settings, {"TIDE"}, look.names(open_folder(str(tmp_path)), wanted=["TIDE"])["found"])
    assert [(p.line, p.value) for p in settings["TIDE"].files] == found
    assert [p.differs for p in settings["TIDE"].files] == [value != "low" for _, value in found]
    assert (settings["TIDE"].origin, settings["TIDE"].overrode) == ("job", [("defaults", "ebb")])


def test_packages_are_read_from_what_installers_leave(tmp_path: Path) -> None:
    for venv in (".venv", "apps/tide/env", "."):
        site = tmp_path / venv / "lib/python3.12/site-packages"
        (site / f"tide_{len(venv)}-2.10.1.dist-info").mkdir(parents=True)
        (site / "tide/inner").mkdir(parents=True)
        (tmp_path / venv / "pyvenv.cfg").write_text("")
    (tmp_path / "lib2/python3.12/site-packages/no_venv-1.0.dist-info").mkdir(parents=True)
    modules = {
        "node_modules/@fen/gauge": '{"name": "@fen/gauge", "version": "3.0.0"}',
        "node_modules/odd": "[1, 2",
        "web/node_modules/x": '{"name": "x", "version": "1.0"}',
        "node_modules/deep": "[" * 100_000,
    }
    for folder, text in modules.items():
        (tmp_path / folder).mkdir(parents=True)
        (tmp_path / folder / "package.json").write_text(text)
    (tmp_path / "node_modules/x").mkdir()
    os.mkfifo(tmp_path / "node_modules/x/package.json")
    (tmp_path / "node_modules/y").mkdir()
    (tmp_path / "node_modules/y/package.json").symlink_to("/dev/zero")
    (tmp_path / "pyvenv.cfg").unlink()
    assert look.packages(open_folder(str(tmp_path)))["packages"] == {
        "node @fen/gauge": "3.0.0",
        "node x": "1.0",
        "python tide_5": "2.10.1",
        "python tide_13": "2.10.1",
    }


@pytest.mark.parametrize(
    ("status", "command", "said"),
    [
        (126, "./tools/run fast", "./tools/run has no execute permission: git update-index --chmod=+x ./tools/run"),
        (126, ["tools/run"], "tools/run has no execute permission: git update-index --chmod=+x tools/run"),
        (
            126,
            "A=1 ./tools/run && true",
            "./tools/run has no execute permission: git update-index --chmod=+x ./tools/run",
        ),
        (126, "lua ./tools/run", "a program was found but could not be run"),
        (127, "no-such-tide --now", "a program of the command was not found"),
        (127, "no-such-tide && lua tools/run", "a program of the command was not found"),  # not tools/run's fault
        (126, "'unclosed", "a program was found but could not be run"),
        (1, "./tools/run", ""),
    ],
)
def test_a_status_by_which_a_shell_gives_up_is_explained(
    tmp_path: Path, status: int, command: str | list[str], said: str
) -> None:
    (tmp_path / "tools").mkdir()
    (tmp_path / "tools/run").write_text("#!/bin/sh\n")
    assert explain_status(status, command, tmp_path) == said


@pytest.mark.parametrize(
    ("klass", "each", "line"),
    [
        ("tests.test_tide.TestLow", "{file}::{name}", "tests/test_tide.py::TestLow::b"),
        ("tests.test_tide", "{file}::{name}", "tests/test_tide.py::b"),
        ("fen.Locks", "{class}#{name}", "fen.Locks#b"),
        ("..etc.passwd", "{file}|{name}", "|b"),
    ],
)
def test_failed_tests_are_named_as_the_plan_wants(tmp_path: Path, klass: str, each: str, line: str) -> None:
    (tmp_path / "tests").mkdir()
    (tmp_path / "tests/test_tide.py").write_text("")
    (tmp_path / "report.xml").write_text(junit(a="passed", b="high").replace('classname="t"', f'classname="{klass}"'))
    top = open_folder(str(tmp_path))
    failed = read(
        tmp_path / "report.xml", "unit", "unit", lambda classes: look.locate(top, classes=classes)["found"]
    ).failed
    assert listed(failed, each) == line + "\n"


def test_a_retest_may_write_beside_the_report() -> None:
    assert beside(["out/unit.xml", "a.tap"]) == ["out/unit.xml", "a.tap", "out/*.xml", "*.tap"]


def test_the_bytes_of_a_room_are_counted_without_following_links(tmp_path: Path) -> None:
    (tmp_path / "a").write_bytes(b"x" * 1_000_000)
    (tmp_path / "link").symlink_to("/usr")
    assert 1_000_000 <= taken_by(tmp_path) < 1_200_000
