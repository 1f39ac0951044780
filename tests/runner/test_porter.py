"""The porter: what a step left is taken, kept, placed and removed, and nothing beyond its room is touched."""

from __future__ import annotations

import io
import json
import os
import stat
import subprocess
import tarfile
import time
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
import zstandard
from hypothesis import given, settings
from hypothesis import strategies as st

from myriant.runner.inside import frames
from myriant.runner.inside.archive import BadArchive as BadInside
from myriant.runner.inside.archive import Unpacked
from myriant.runner.inside.beneath import open_beneath, open_by_parts, open_folder
from myriant.runner.porter import BadArchive, Porter, SettingsMissing, time_mark
from myriant.runner.porter_stream import PorterFailed
from myriant.runner.removal import remove, remove_left
from myriant.runner.sandbox import Room, Sandbox, find_sandbox

FILE, LINK, HARD, DEVICE, FOLDER = tarfile.REGTYPE, tarfile.SYMTYPE, tarfile.LNKTYPE, tarfile.CHRTYPE, tarfile.DIRTYPE


class Left(SimpleNamespace):
    """A room after a step: `run` is the step."""

    sandbox: Sandbox
    room: Room
    porter: Porter
    copies: Path

    def run(self, script: str) -> None:
        words = ["/bin/sh", "-e", "-c", script]
        command, values, folder = self.sandbox.command(words, room=self.room, environment={"PATH": "/usr/bin:/bin"})
        subprocess.run(command, env=values, cwd=folder, check=True, stdin=subprocess.DEVNULL)

    def take(self, *globs: str, since: int = 0) -> dict[str, Any]:
        return self.porter.take(globs, since, self.copies)


@pytest.fixture
def left(tmp_path: Path) -> Iterator[Left]:
    work = Path("/var/tmp") / f"myriant-porter-{os.getpid()}-{time.monotonic_ns()}"
    work.mkdir(mode=0o755)
    sandbox = find_sandbox(work)
    room = Room(work / "attempt-1", 61998)
    room.make()
    room.give_to_user()
    copies = tmp_path / "copies"
    copies.mkdir()
    before = os.umask(0o022)  # the runner's, whatever the process of these tests has
    made = Left(sandbox=sandbox, room=room, porter=Porter(sandbox, room), copies=copies, work=work)
    yield made
    made.porter.kill()
    os.umask(before)
    remove(sandbox, room)
    subprocess.run(["rm", "-rf", str(work)], check=True)


DEEP = "i=0; while [ $i -lt 1500 ]; do mkdir d; cd d; i=$((i+1)); done; cd /workspace; "
TREES: list[tuple[str, str, str, dict[str, Any]]] = [
    ("plain", "echo x > out/a.xml; mkdir out/b; echo y > out/b/c.xml", "out/*.xml", {"found": ["out/a.xml"]}),
    (
        "anywhere",
        "echo x > out/a.xml; mkdir .git; echo x > .git/a.xml; mkdir -p b/.git; echo > b/.git/c.xml",
        "*.xml",
        {"found": ["b/.git/c.xml", "out/a.xml"]},
    ),
    (
        "link",
        "ln -s /etc/passwd out/a.xml; echo x > out/b.xml",
        "out/*.xml",
        {"found": ["out/b.xml"], "odd": ["out/a.xml"]},
    ),
    ("folder link", "ln -s /etc outside; ln -s . here", "**/passwd", {}),
    ("link to it", "echo x > out/a.xml; ln -s out in", "in/*.xml", {}),
    ("fifo", "mkfifo out/a.xml", "*.xml", {"odd": ["out/a.xml"]}),
    ("zero", "ln -s /dev/zero out/a.xml", "*.xml", {"odd": ["out/a.xml"]}),
    (
        "unreadable",
        "echo x > out/a.xml; chmod 0 out/a.xml; echo y > out/b.xml",
        "*.xml",
        {"found": ["out/b.xml"], "refused": ["out/a.xml cannot be read"]},
    ),
    (
        "closed folder",
        "mkdir out/b; echo x > out/b/a.xml; chmod 0 out/b; echo y > out/c.xml",
        "*.xml",
        {"found": ["out/c.xml"], "refused": ["out/b could not be looked into, and may hold what *.xml names"]},
    ),
    (
        "closed folder elsewhere",
        "mkdir out/b; chmod 0 out/b; echo y > out/c.xml",
        "out/*.xml",
        {"found": ["out/c.xml"]},
    ),
    (
        "closed folder on the way",
        "mkdir out/b; chmod 0 out/b; echo y > out/c.xml",
        "out/*/c.xml",
        {"refused": ["out/b could not be looked into, and may hold what out/*/c.xml names"]},
    ),
    (
        "sparse",
        "truncate -s 1T out/a.xml; echo x > out/b.xml",
        "*.xml",
        {"found": ["out/b.xml"], "refused": ["out/a.xml is larger than may be taken (1,099,511,627,776 bytes)"]},
    ),
    ("bytes", "printf x > \"$(printf 'out/\\377 \\033[1m.xml')\"", "*.xml", {"found": ["out/\\xff \x1b[1m.xml"]}),
    ("lines", "printf x > \"$(printf 'out/a\\nb.xml')\"", "out/*.xml", {"found": ["out/a\nb.xml"]}),
    ("hard links", "echo x > out/a.xml; ln out/a.xml out/b.xml", "*.xml", {"found": ["out/a.xml", "out/b.xml"]}),
    (
        "deep",
        DEEP + "echo x > out/a.xml; echo y > d/d/d/b.xml",
        "*.xml",
        {
            "found": ["d/d/d/b.xml", "out/a.xml"],
            "refused": [f"{'d/' * 30}… could not be looked into, and may hold what *.xml names"],
        },
    ),
    (
        "socket",
        "python3 -c \"import socket; socket.socket(socket.AF_UNIX).bind('out/a.xml')\"",
        "*.xml",
        {"odd": ["out/a.xml"]},
    ),
    ("many", "seq 20001 | sed 's,.*,out/&.xml,' | xargs touch; touch out/a.txt", "*.xml", {"too_many": 20001}),
    ("circles", "ln -s b a; ln -s a b", "a", {"odd": ["a"]}),
]


@pytest.mark.parametrize(("script", "glob", "expected"), [row[1:] for row in TREES], ids=[row[0] for row in TREES])
def test_what_a_step_left_is_taken_as_far_as_it_is_plain(
    left: Left, script: str, glob: str, expected: dict[str, Any]
) -> None:
    left.run("mkdir out; " + script)
    got = left.take(glob, "no/such")[glob]
    told = {"found": [f.path for f in got.found], "odd": got.odd, "refused": got.refused, "too_many": got.too_many}
    assert {k: v for k, v in told.items() if v} == expected
    assert left.porter.packages() == {} and left.porter.names(["TIDE"]) == [], "and it still answers"
    assert remove(left.sandbox, left.room) and not left.room.base.exists()


def test_only_what_was_written_since_the_mark_is_fresh(left: Left) -> None:
    left.run("mkdir out; echo old > out/old.xml; touch -d 2096-01-01 out/old.xml")  # a change time cannot be claimed
    mark = time_mark(left.room.base)
    left.run("echo new > out/new.xml")
    got = left.take("out/*.xml", "*.xml", since=mark)
    for one in got.values():
        assert [(f.path, f.copy.read_text()) for f in one.found] == [("out/new.xml", "new\n")]
        assert one.stale == ["out/old.xml"]
    copies = [f.copy for one in got.values() for f in one.found]
    assert len(set(copies)) == 2 and got["*.xml"].found[0].digest() == got["out/*.xml"].found[0].digest()


def test_a_folder_that_is_exchanged_all_the_time_gives_nothing_from_outside(left: Left) -> None:
    left.run("mkdir out; echo mine > out/passwd; ln -s /etc other")
    swap = "while :; do mv out away; mv other out; mv out other; mv away out; done"
    words = ["/bin/sh", "-c", swap]
    command, values, folder = left.sandbox.command(words, room=left.room, environment={"PATH": "/usr/bin:/bin"})
    beside = subprocess.Popen(command, env=values, cwd=folder, stderr=subprocess.DEVNULL, start_new_session=True)
    try:
        for _ in range(60):
            for found in left.take("*/passwd")["*/passwd"].found:
                assert found.copy.read_text() == "mine\n"
            left.porter.pack(["out"], left.copies / "archive", None)
            with zstandard.open(left.copies / "archive") as packed:
                assert b"root:" not in packed.read()
    finally:
        os.killpg(beside.pid, 9)
        beside.wait()


@pytest.mark.parametrize(
    "script",
    [
        DEEP,
        "mkdir -p a/b; touch a/b/c; chmod 0 a/b a",
        "mkfifo f; ln -s / root; ln -s /etc/passwd p",
        "mkdir a; cd a; ln -s .. up; mkdir b; chmod 555 b .",
        "seq 5000 | xargs mkdir -p; touch 1/a 2/b",
        DEEP.replace("0o644", "0"),
    ],
)
def test_whatever_was_left_is_removed(left: Left, script: str) -> None:
    left.run(f"{script}\ncd /tmp; {script}\ncd /home/cell; {script}" if script[0] != "p" else script)
    left.porter.kill()
    assert remove_left(left.sandbox, left.work) == []
    assert [p.name for p in left.work.iterdir()] == [] and Path("/etc/passwd").exists()


def test_a_room_is_removed_though_its_attempt_is_stopped_meanwhile(left: Left, monkeypatch: pytest.MonkeyPatch) -> None:
    left.run("mkdir -p deep/deeper && echo a > deep/deeper/a")
    clear = Porter.clear

    def stopped(porter: Porter) -> bool:
        if porter is left.porter:
            porter.kill()  # its lease was lost just now
        return clear(porter)

    monkeypatch.setattr(Porter, "clear", stopped)
    assert remove(left.sandbox, left.room, left.porter) and not left.room.base.exists()
    assert not (left.room.base.parent / "aside").exists()


def test_what_cannot_be_removed_is_put_aside(left: Left, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(Porter, "clear", lambda self: False)
    left.run("touch x")
    assert remove_left(left.sandbox, left.work) == ["attempt-1"]
    assert [p.name for p in left.work.iterdir()] == ["aside"]
    assert remove_left(left.sandbox, left.work) == [], "a later start is not held up by it"


def test_a_porter_that_is_stopped_or_dies_says_so(left: Left) -> None:
    assert left.take("*")["*"].found == []
    assert left.porter.pid
    os.killpg(left.porter.pid, 9)
    with pytest.raises(PorterFailed):
        while True:  # what is inside ends a moment later
            left.take("*")
    assert left.take("*")["*"].found == [], "another one is begun"
    left.porter.kill()
    with pytest.raises(PorterFailed, match="stopped"):
        left.take("*")


SETTINGS = [
    ("A=\nB=\n", "A=1\nexport B='2'\n", "conf/.env", ""),
    ("A=\nB=\n", "A=1\n", "conf/.env", "gives no value for B"),
    ("A=\n", "A=\n", "conf/.env", "gives no value for A"),
    ("", "X=1\n", "conf/.env", ""),
    (None, "X=1\n", "conf/.env", "there is no file env.example"),
    ("A=\n", None, "conf/.env", "there is no file env.ci"),
    ("", "X=1\n", "../.env", "leads out"),
    ("", "X=1\n", "/etc/tide", "leads out"),
    ("", "X=1\n", "link/.env", "cannot be written"),
    ("", "X=1\n", "over", ""),  # a link in the place of the file is replaced, what it names stays
]


@pytest.mark.parametrize(("example", "values", "to", "said"), SETTINGS)
def test_settings_are_compared_with_their_example_and_copied(
    left: Left, example: str | None, values: str | None, to: str, said: str
) -> None:
    left.run("ln -s /tmp link; ln -s /tmp/over over; echo mine > /tmp/over")
    for name, text in (("env.example", example), ("env.ci", values)):
        if text is not None:
            left.run(f"cat > {name} <<'END'\n{text}END")
    if said:
        with pytest.raises(SettingsMissing, match=said):
            left.porter.place("env.ci", "env.example", to)
    else:
        assert "was copied" in left.porter.place("env.ci", "env.example", to)[-1]
        assert (left.room.workspace / to).read_text() == values
    assert (left.room.tmp / "over").read_text() == "mine\n" and not (left.room.tmp / ".env").exists()
    left.run("mkfifo pipe")
    with pytest.raises(SettingsMissing):
        left.porter.place("pipe", "", "to")


def archive(*entries: tuple[str, bytes, str]) -> bytes:
    """An archive of (name, type, link or content), not compressed."""
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
    return out.getvalue()


def packed(data: bytes) -> bytes:
    return zstandard.ZstdCompressor().compress(data)


@pytest.mark.parametrize(
    ("data", "said"),
    [
        (packed(archive(("../out", FILE, "x"))), "leads out of its folder"),
        (packed(archive(("/etc/tide", FILE, "x"))), "leads out of its folder"),
        (packed(archive(("a/../../out", FILE, "x"))), "leads out of its folder"),
        (packed(archive(("../out", LINK, "x"))), "leads out of its folder"),
        (packed(archive(("hard", HARD, "/etc/passwd"))), "neither file, folder nor link"),
        (packed(archive(("device", DEVICE, ""))), "neither file, folder nor link"),
        (packed(archive(("outside/x", FILE, "x"))), "outside"),
        (packed(archive(("outside/x/y", FOLDER, ""))), "outside"),
        (packed(archive(("link", LINK, "/tmp"), ("link/stolen", FILE, "x"), ("link", LINK, "/etc"))), "both a folder"),
        (packed(archive(("a", FILE, "x" * 5000)))[:-40], ""),
        (packed(archive(("a", FILE, "x" * 5000))[:-9000]), ""),
        (b"no archive at all", ""),
        (b"", ""),
        (packed(b"\0" * 100_000), ""),
    ],
    ids=range(14),
)
def test_a_hostile_or_damaged_archive_writes_nothing_outside(left: Left, data: bytes, said: str) -> None:
    left.run("ln -s /tmp outside")  # as a repository may have it
    file = left.copies / "archive"
    file.write_bytes(data)
    try:
        assert left.porter.unpack(file) == 0 and not said
    except BadArchive as error:
        assert said in str(error), error
    assert not [
        p for p in left.room.tmp.rglob("*") if not p.is_dir()
    ]  # folders are there where the walls show something
    file.write_bytes(packed(archive(("good/one", FILE, "x"))))
    assert left.porter.unpack(file) == 1 and (left.room.workspace / "good/one").read_text() == "x"


def test_what_a_cache_keeps_comes_back_as_it_was(left: Left) -> None:
    left.run(
        "mkdir -p kept/deep; printf '\\0a' > kept/file; printf b > \"$(printf 'kept/deep/\\377 \\n')\"; chmod 4755 kept/file;"
        "chmod 600 kept/deep/*; ln -s ../../etc kept/link; mkfifo kept/pipe; ln kept/file kept/same; echo no > other"
    )
    file = left.copies / "archive"
    assert left.porter.pack(["kept"], file, None) == (6, "")
    before = {p.name: (p.lstat().st_mode & 0o777, p.lstat().st_size) for p in left.room.workspace.glob("kept/**/*")}
    left.run("rm -r kept other")
    assert left.porter.unpack(file) == 6
    after = {p.name: (p.lstat().st_mode & 0o777, p.lstat().st_size) for p in left.room.workspace.glob("kept/**/*")}
    before.pop("pipe")
    assert after == before and not (left.room.workspace / "other").exists()
    assert stat.S_IMODE((left.room.workspace / "kept/file").stat().st_mode) == 0o755, (
        "nobody becomes another user by it"
    )
    assert left.porter.pack(["nothing"], file, None) == (0, "nothing matches what it keeps")
    assert left.porter.pack(["kept"], file, lambda p: p.read_bytes() == b"\0a") == (0, "kept/file holds a secret")
    left.run("truncate -s 1T kept/sparse")
    assert left.porter.pack(["kept"], file, None) == (0, "its files take more than 4 GiB")


NAMES = st.sampled_from(["a", "b", "a/b", "a/b/c", "l/x", "./a", "..", "../x", "a/../b", "/etc/x", "l", "a\0b", ""])
ENTRIES = st.lists(
    st.tuples(
        NAMES,
        st.sampled_from([FILE, LINK, FOLDER, HARD, DEVICE]),
        st.sampled_from(["", "x", "..", "/", "../../beside", "a"]),
    ),
    max_size=8,
)


@settings(max_examples=120)
@given(entries=ENTRIES, cut=st.integers(0, 3000), flip=st.integers(0, 3000), to=st.integers(0, 255))
def test_no_archive_writes_outside_its_folder(
    tmp_path_factory: pytest.TempPathFactory, entries: list[tuple[str, bytes, str]], cut: int, flip: int, to: int
) -> None:
    base = tmp_path_factory.mktemp("a")
    (base / "in").mkdir()
    (base / "beside").mkdir()
    data = bytearray(archive(*[e for e in entries if "\0" not in e[0] and e[0]]))
    if flip < len(data):
        data[flip] = to
    try:
        Unpacked(open_folder(str(base / "in")), 1 << 20).all_of(io.BytesIO(bytes(data[: len(data) - cut])))
    except BadInside as error:
        assert str(error)
    assert sorted(p.name for p in base.iterdir()) == ["beside", "in"] and not list((base / "beside").iterdir())


def test_what_takes_too_long_is_ended_and_says_so(left: Left, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("myriant.runner.porter.MOST_SECONDS", 0.0)
    with pytest.raises(PorterFailed, match="it took more than 0 s"):
        left.porter.take(["out/*.xml"], 0, left.copies)
    monkeypatch.undo()
    assert left.porter.take(["out/*.xml"], 0, left.copies)["out/*.xml"].found == [], "another one is begun"


def stream(*answers: tuple[bytes, Any]) -> bytes:
    out = io.BytesIO()
    for kind, content in answers:
        frames.write(out, kind, content if isinstance(content, bytes) else json.dumps(content).encode())
    return out.getvalue()


def head(path: str, **more: Any) -> tuple[bytes, Any]:
    return (frames.ENTRY, {"path": path, "globs": [0], "type": "file", "size": 2, **more})


GOOD = (head("a.xml"), (frames.DATA, b"xx"), (frames.ENDED, b""), (frames.ANSWER, {"too_many": {}, "unseen": {}}))
LIES = [
    ("good", stream(*GOOD), True),
    ("cut", stream(*GOOD)[:-4], False),
    ("nothing", b"", False),
    ("out of it", stream(head("../a.xml"), *GOOD[1:]), False),
    ("absolute", stream(head("/etc/a.xml"), *GOOD[1:]), False),
    ("too long", stream(head("a.xml"), (frames.DATA, b"xxx"), *GOOD[2:]), False),
    ("no such glob", stream(head("a.xml", globs=[7]), *GOOD[1:]), False),
    ("no number", stream(head("a.xml", size="many"), *GOOD[1:]), False),
    ("a list", stream((frames.ENTRY, []), *GOOD[1:]), False),
    ("no entry", stream((frames.DATA, b"xx"), *GOOD[2:]), False),
    ("unknown kind", b"Q" + stream(*GOOD)[1:], False),
    ("huge frame", b"D\xff\xff\xff\xff" + b"x" * 100, False),
    ("no answer", stream(*GOOD[:3]), False),
    ("an error", stream((frames.ANSWER, {"error": "no memory"})), False),
]


def told_by(data: bytes) -> Porter:
    """A porter whose process says what it likes."""
    porter = Porter(Sandbox(False, False), Room(Path("/nonexistent"), 1))
    ours, its = os.pipe()
    os.write(its, data)
    os.close(its)
    told = SimpleNamespace(stdin=io.BytesIO(), stdout=io.BufferedReader(io.FileIO(ours)))
    porter._begun = lambda: told  # type: ignore[assignment,return-value]
    return porter


@pytest.mark.parametrize(("data", "good"), [row[1:] for row in LIES], ids=[row[0] for row in LIES])
def test_a_stream_that_lies_is_refused(tmp_path: Path, data: bytes, good: bool) -> None:
    try:
        got = told_by(data).take(["*.xml"], 0, tmp_path)["*.xml"]
        assert good and [(f.path, f.copy.read_bytes()) for f in got.found] == [("a.xml", b"xx")]
    except PorterFailed:
        assert not good


@settings(max_examples=120)
@given(at=st.integers(0, 200), new=st.binary(max_size=12), drop=st.integers(0, 12))
def test_no_stream_writes_beyond_the_copies_or_raises_anything_else(
    tmp_path_factory: pytest.TempPathFactory, at: int, new: bytes, drop: int
) -> None:
    base = tmp_path_factory.mktemp("s")
    (base / "copies").mkdir()
    data = stream(*GOOD)
    try:
        told_by(data[:at] + new + data[at + drop :]).take(["*.xml"], 0, base / "copies")
    except PorterFailed as error:
        assert str(error)
    assert [p.name for p in base.iterdir()] == ["copies"]


@pytest.mark.parametrize("opened", [open_beneath, lambda top, path, flags: open_by_parts(top, path.split("/"), flags)])
@pytest.mark.parametrize(
    ("path", "good"),
    [("a/file", True), ("a/link", False), ("up/a/file", False), ("a/none", False), ("out/passwd", False), ("a", True)],
)
def test_both_ways_of_opening_follow_no_link(tmp_path: Path, opened: Any, path: str, good: bool) -> None:
    (tmp_path / "a").mkdir()
    (tmp_path / "a/file").write_text("x")
    (tmp_path / "a/link").symlink_to("file")
    (tmp_path / "up").symlink_to(".")
    (tmp_path / "out").symlink_to("/etc")
    top = open_folder(str(tmp_path))
    try:
        os.close(opened(top, path, os.O_RDONLY))
        assert good
    except OSError:
        assert not good
    finally:
        os.close(top)
