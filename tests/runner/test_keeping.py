"""Parts of the runner that keep, trace and name: caches, settings in files, packages, retests, exit statuses."""

from __future__ import annotations

import io
import os
import stat
import tarfile
from pathlib import Path

import pytest
import zstandard
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from conftest import junit
from myriant.runner import caches, machine
from myriant.runner.process import taken_by
from myriant.runner.retest import beside, listed, read
from myriant.runner.tracer import look_in_files, trace
from myriant.runner.workspace import explain_status

names = st.text(
    st.characters(blacklist_characters="/\0\n", blacklist_categories=("Cs",)), min_size=1, max_size=12
).filter(lambda n: n not in (".", "..", ".git"))


@settings(max_examples=40, suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
@given(
    files=st.dictionaries(names, st.binary(max_size=200), min_size=1, max_size=6),
    link=st.text("abc./", max_size=20),
    mode=st.sampled_from([0o644, 0o755, 0o600]),
)
def test_what_a_cache_keeps_comes_back_as_it_was(
    tmp_path_factory: pytest.TempPathFactory, files: dict[str, bytes], link: str, mode: int
) -> None:
    one, two = tmp_path_factory.mktemp("one"), tmp_path_factory.mktemp("two")
    for name, content in files.items():
        (one / "kept").mkdir(exist_ok=True)
        (one / "kept" / name).write_bytes(content)
        (one / "kept" / name).chmod(mode)
    if link and "link" not in files:
        (one / "kept/link").symlink_to(link)
    (one / "other").write_text("not kept")
    count, why = caches.pack(one, ["kept"], one / "archive", lambda path: False)
    assert count and not why
    caches.unpack(one / "archive", two)
    for name, content in files.items():
        found = two / "kept" / name
        assert found.read_bytes() == content and stat.S_IMODE(found.stat().st_mode) == mode
    assert not (two / "other").exists()
    if link and "link" not in files:
        assert os.readlink(two / "kept/link") == link  # noqa: PTH115  # the text, not a path


def archive(*entries: tuple[str, bytes, str]) -> bytes:
    """A packed archive of (name, type, link or content)."""
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as tar:
        for name, kind, text in entries:
            info = tarfile.TarInfo(name)
            info.type = kind
            if kind == tarfile.REGTYPE:
                info.size = len(text)
                tar.addfile(info, io.BytesIO(text.encode()))
            else:
                info.linkname = text
                tar.addfile(info)
    return zstandard.ZstdCompressor().compress(out.getvalue())


FILE, LINK, HARD, DEVICE = tarfile.REGTYPE, tarfile.SYMTYPE, tarfile.LNKTYPE, tarfile.CHRTYPE


@pytest.mark.parametrize(
    ("data", "said"),
    [
        (archive(("../out", FILE, "x")), "leads out of the workspace"),
        (archive(("/etc/tide", FILE, "x")), "leads out of the workspace"),
        (archive(("a/../../out", FILE, "x")), "leads out of the workspace"),
        (archive(("hard", HARD, "/etc/passwd")), "neither file, folder nor link"),
        (archive(("device", DEVICE, "")), "neither file, folder nor link"),
        (archive(("outside/x", FILE, "x")), "leads out of the workspace"),
        (archive(("a", FILE, "x" * 5000))[:-40], ""),
        (b"no archive at all", ""),
        (b"", ""),
    ],
)
def test_a_hostile_or_damaged_archive_writes_nothing_outside(tmp_path: Path, data: bytes, said: str) -> None:
    workspace, outside = tmp_path / "workspace", tmp_path / "beside"
    workspace.mkdir()
    outside.mkdir()
    (workspace / "outside").symlink_to(outside)  # as a repository may have it
    (tmp_path / "archive").write_bytes(data)
    with pytest.raises(caches.BadArchive, match=said):
        caches.unpack(tmp_path / "archive", workspace)
    assert list(outside.iterdir()) == [] and not (tmp_path / "out").exists()


def test_a_link_of_an_archive_is_never_written_through(tmp_path: Path) -> None:
    workspace = tmp_path / "workspace"
    workspace.mkdir()
    (tmp_path / "archive").write_bytes(
        archive(("link", LINK, str(tmp_path)), ("link/stolen", FILE, "x"), ("link", LINK, "/etc"))
    )
    with pytest.raises(caches.BadArchive, match="both a folder and a link"):
        caches.unpack(tmp_path / "archive", workspace)
    assert not (tmp_path / "stolen").exists()


def test_a_cache_with_a_secret_or_nothing_is_not_packed(tmp_path: Path) -> None:
    (tmp_path / "kept").mkdir()
    assert caches.pack(tmp_path, ["nothing"], tmp_path / "a", lambda p: False) == (0, "nothing matches what it keeps")
    (tmp_path / "kept/key").write_text("secret")
    assert caches.pack(tmp_path, ["kept"], tmp_path / "a", lambda p: p.name == "key") == (0, "kept/key holds a secret")


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
    look_in_files(tmp_path, settings, {"TIDE"})
    assert [(p.line, p.value) for p in settings["TIDE"].files] == found
    assert [p.differs for p in settings["TIDE"].files] == [value != "low" for _, value in found]
    assert (settings["TIDE"].origin, settings["TIDE"].overrode) == ("job", [("defaults", "ebb")])


def test_packages_are_read_from_what_installers_leave(tmp_path: Path) -> None:
    site = tmp_path / ".venv/lib/python3.12/site-packages"
    (site / "tide_tables-2.10.1.dist-info").mkdir(parents=True)
    (tmp_path / ".venv/pyvenv.cfg").write_text("")
    (tmp_path / "node_modules/@fen/gauge").mkdir(parents=True)
    (tmp_path / "node_modules/@fen/gauge/package.json").write_text('{"name": "@fen/gauge", "version": "3.0.0"}')
    (tmp_path / "node_modules/broken").mkdir()
    (tmp_path / "node_modules/broken/package.json").write_text("[1, 2")
    assert machine.packages(tmp_path) == {"node @fen/gauge": "3.0.0", "python tide_tables": "2.10.1"}


@pytest.mark.parametrize(
    ("status", "command", "said"),
    [
        (126, "./tools/run fast", "./tools/run has no execute permission: git update-index --chmod=+x ./tools/run"),
        (126, ["tools/run"], "tools/run has no execute permission: git update-index --chmod=+x tools/run"),
        (127, "no-such-tide --now", "a program of the command was not found"),
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
    failed = read(tmp_path / "report.xml", "unit", "unit", tmp_path).failed
    assert listed(failed, each) == line + "\n"


def test_a_retest_may_write_beside_the_report() -> None:
    assert beside(["out/unit.xml", "a.tap"]) == ["out/unit.xml", "a.tap", "out/*.xml", "*.tap"]


def test_the_bytes_of_a_room_are_counted_without_following_links(tmp_path: Path) -> None:
    (tmp_path / "a").write_bytes(b"x" * 1_000_000)
    (tmp_path / "link").symlink_to("/usr")
    assert 1_000_000 <= taken_by(tmp_path) < 1_200_000
