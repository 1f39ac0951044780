"""The door to this machine's repositories: as whom things are done, and what is refused."""

from __future__ import annotations

import json
import os
import stat
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from myriant.repos import door
from myriant.repos.git import GitError
from myriant.repos.remote import Remote, heads

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="only root has a door")
OTHER, NOBODY = 61_234, 65_534
ASKED = """
import json, os, socket, sys
os.setgid({gid}); os.setuid({uid})
line = socket.socket(socket.AF_UNIX, socket.SOCK_SEQPACKET)
try:
    line.connect({place!r})
    line.send(json.dumps({wish!r}).encode())
    print(line.recv(65536).decode())
except OSError as error:
    print(json.dumps({{"refused": str(error)}}))
"""


@pytest.fixture
def place(tmp_path: Path) -> Iterator[Path]:
    """A door that root keeps for the user NOBODY."""
    for folder in (tmp_path, *tmp_path.parents):
        if folder != Path("/") and not folder.stat().st_mode & stat.S_IXOTH:
            folder.chmod(folder.stat().st_mode | stat.S_IXOTH)
    at = tmp_path / "door"
    words = [sys.executable, "-m", "myriant.cli.main", "door", str(at), str(NOBODY)]
    with subprocess.Popen(words) as kept:
        while not at.exists():
            assert kept.poll() is None
            time.sleep(0.02)
        yield at
        kept.terminate()


def as_user(uid: int, place: Path, **wish: object) -> dict[str, object]:
    code = ASKED.format(uid=uid, gid=uid, place=str(place), wish=wish)
    done = subprocess.run(["/usr/bin/python3", "-I", "-S", "-c", code], capture_output=True, text=True, check=True)
    said = done.stdout.strip()
    found: dict[str, object] = json.loads(said) if said else {}
    return found


def repository(folder: Path, owner: int, mode: int = 0o700) -> Path:
    """A bare repository with a commit, whose hook says as whom it runs."""
    at = folder / "work.git"
    subprocess.run(["git", "init", "--quiet", "--bare", "--initial-branch=main", str(at)], check=True, umask=0o022)
    tree = subprocess.run(["git", "-C", str(at), "mktree"], input=b"", capture_output=True, check=True).stdout.decode()
    who = ("-c", "user.name=Ada", "-c", "user.email=ada@tidewater.example")
    commit = subprocess.run(
        ["git", "-C", str(at), *who, "commit-tree", "-m", "first", tree.strip()], capture_output=True, check=True
    ).stdout.decode()
    subprocess.run(["git", "-C", str(at), "update-ref", "refs/heads/main", commit.strip()], check=True)
    hook = at / "hooks/post-receive"
    hook.write_text("#!/bin/sh\nid -u > who\n")
    hook.chmod(0o755)
    subprocess.run(["chown", "-R", f"{owner}:{owner}", str(at)], check=True)
    at.chmod(mode)
    return at


@pytest.mark.parametrize("owner", [OTHER, 0])
def test_a_repository_that_nobody_else_can_read_is_served_as_its_owner_would(
    place: Path, tmp_path: Path, owner: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    at = repository(tmp_path, owner)
    mirror = tmp_path / "mirror.git"
    subprocess.run(["git", "init", "--quiet", "--bare", str(mirror)], check=True)
    monkeypatch.setenv("MYRIANT_DOOR", str(place))
    monkeypatch.setattr(os, "geteuid", lambda: NOBODY)  # git runs as root here, but goes through the door
    remote = Remote(str(at))
    assert "through_door" in remote._served("upload-pack")
    found = heads(remote)
    assert list(found) == ["refs/heads/main"]
    remote.git(mirror, "fetch", "--quiet", "+refs/heads/*:refs/heads/*")
    remote.git(mirror, "push", "--quiet", "refs/heads/main:refs/heads/beside")
    assert (at / "who").read_text().strip() == str(owner), "its hooks run with its owner's rights"
    assert {p.stat().st_uid for p in (at / "refs/heads").iterdir()} == {owner}
    seen = door.look(at)
    assert (seen.path, seen.bare) == (str(at), True) and door.look(tmp_path / "none").path == ""
    bell = {"project": "work", "host": "127.0.0.1", "port": 1, "token": "t", "python": sys.executable}
    assert door.install(at, **bell) is True, "the hook that was there is kept"
    bells = at / "hooks/myriant-bells"
    assert bells.stat().st_uid == owner and stat.S_IMODE(bells.stat().st_mode) == 0o400
    assert "cannot be reached" in door.ring(at)
    door.remove(at, "work")
    assert not bells.exists() and "id -u" in (at / "hooks/post-receive").read_text()
    with pytest.raises(GitError, match="does not appear to be a git repository"):
        heads(Remote(str(tmp_path / "nowhere.git")))


def test_hooks_folders_that_lead_elsewhere_are_written_with_the_owners_rights_only(place: Path, tmp_path: Path) -> None:
    at = repository(tmp_path, OTHER)
    elsewhere = tmp_path / "elsewhere"
    elsewhere.mkdir(mode=0o755)
    subprocess.run(["rm", "-r", str(at / "hooks")], check=True)
    (at / "hooks").symlink_to(elsewhere)
    bell = {"project": "work", "host": "127.0.0.1", "port": 1, "token": "t", "python": "python3"}
    answer = as_user(NOBODY, place, op="install", repository=str(at), **bell)
    assert answer.get("errno") == 13 and not list(elsewhere.iterdir()), answer


def test_a_hook_is_never_run_as_somebody_whom_the_repository_only_points_to(place: Path, tmp_path: Path) -> None:
    at = repository(tmp_path, OTHER)
    subprocess.run(["rm", "-r", str(at / "objects")], check=True)
    (at / "objects").symlink_to("/usr")  # which is root's
    assert "are a link" in str(as_user(NOBODY, place, op="ring", repository=str(at)))
    assert not (at / "who").exists()


@pytest.mark.parametrize(
    ("uid", "wish", "answer"),
    [
        (OTHER, {"op": "look", "repository": "/"}, "refused"),  # somebody else cannot even open it
        (NOBODY, {"op": "serve", "repository": "/tmp", "program": "upload-pack"}, "not understood"),  # no files came
        (NOBODY, {"op": "serve", "repository": "/tmp", "program": "sh"}, "not understood"),
        (NOBODY, {"op": "shell", "repository": "/tmp"}, "not understood"),
        (NOBODY, {"op": "look", "repository": "relative"}, "not understood"),
        (NOBODY, {"op": "install", "repository": "/tmp"}, "not understood"),
        (NOBODY, {"op": "look"}, "not understood"),
    ],
)
def test_what_is_not_offered_is_refused(place: Path, uid: int, wish: dict[str, str], answer: str) -> None:
    assert answer in json.dumps(as_user(uid, place, **wish))
    assert as_user(NOBODY, place, op="look", repository="/")["path"] == "/", "and the door stays open"
