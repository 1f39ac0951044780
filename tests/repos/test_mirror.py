"""Mirrors, notes and hooks on real repositories."""

from __future__ import annotations

import json
import subprocess
import sys
import threading
from concurrent.futures import ThreadPoolExecutor
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pytest

from myriant.repos.git import GitError
from myriant.repos.hook import install_hook, remove_hook
from myriant.repos.mirror import Mirror, heads


def git(folder: Path, *words: str, **environment: str) -> str:
    who = {
        f"GIT_{r}_{k}": v
        for r in ("AUTHOR", "COMMITTER")
        for k, v in (("NAME", "Ada Fen"), ("EMAIL", "ada@fenmark.example"))
    }
    done = subprocess.run(
        ["git", *words],
        cwd=folder,
        capture_output=True,
        text=True,
        check=True,
        env={"PATH": "/usr/bin:/bin", "HOME": str(folder), **who, **environment},
    )
    return done.stdout.strip()


@pytest.fixture
def origin(tmp_path: Path) -> Path:
    """A bare repository whose main has a merge: first - second - merge(third)."""
    bare, tree = tmp_path / "origin.git", tmp_path / "tree"
    git(tmp_path, "init", "--quiet", "--bare", "--initial-branch=main", str(bare))
    git(tmp_path, "clone", "--quiet", str(bare), str(tree))
    git(tree, "checkout", "--quiet", "-b", "main")
    for name in ("first", "second"):
        (tree / name).write_text(name)
        git(tree, "add", ".")
        git(tree, "commit", "--quiet", "-m", name)
    git(tree, "checkout", "--quiet", "-b", "side", "HEAD~1")
    git(tree, "commit", "--quiet", "--allow-empty", "-m", "third: a 'quoted' \"title\"")
    git(tree, "checkout", "--quiet", "main")
    git(tree, "merge", "--quiet", "--no-ff", "-m", "merge", "side")
    git(tree, "push", "--quiet", "origin", "main", "side")
    return bare


def test_a_mirror_knows_commits_files_and_the_order_of_ancestry(origin: Path, tmp_path: Path) -> None:
    mirror = Mirror(tmp_path / "mirror.git", str(origin))
    mirror.fetch()
    found = heads(str(origin))
    merge = found["refs/heads/main"]
    assert mirror.depth(merge) == 2 and len(mirror.first_parents(merge)) == 3
    commit = mirror.commit(found["refs/heads/side"])
    assert commit.title == "third: a 'quoted' \"title\"" and commit.author == "Ada Fen"
    assert mirror.file(merge, "second") == b"second" and mirror.file(merge, "nothing") is None
    assert mirror.files(merge) == ["first", "second"]
    assert not mirror.has("0" * 40) and not mirror.has("--upload-pack=x") and mirror.has(merge)
    with pytest.raises(GitError):
        mirror.commit("0" * 40)


def test_a_note_is_delivered_and_another_writers_notes_are_kept(origin: Path, tmp_path: Path) -> None:
    mirror = Mirror(tmp_path / "mirror.git", str(origin))
    mirror.fetch()
    commits = mirror.first_parents(heads(str(origin))["refs/heads/main"])
    mirror.note(commits[0], "verdict: held\n")
    git(origin, "notes", "--ref=myriant", "add", "-m", "by somebody else", commits[1])
    mirror.note(commits[2], "verdict: clear\n")
    mirror.note(commits[0], "verdict: clear\n")
    said = [git(origin, "notes", "--ref=myriant", "show", c) for c in commits]
    assert said == ["verdict: clear", "by somebody else", "verdict: clear"]


def test_a_rewritten_branch_is_followed_and_its_old_commits_are_kept(origin: Path, tmp_path: Path) -> None:
    mirror = Mirror(tmp_path / "mirror.git", str(origin))
    mirror.fetch()
    old = heads(str(origin))["refs/heads/main"]
    git(tmp_path / "tree", "reset", "--quiet", "--hard", "HEAD~1")
    git(tmp_path / "tree", "commit", "--quiet", "--allow-empty", "-m", "rewritten")
    git(tmp_path / "tree", "push", "--quiet", "--force", "origin", "main")
    mirror.fetch()
    assert mirror.has(old) and mirror.commit(heads(str(origin))["refs/heads/main"]).title == "rewritten"


def test_a_commit_may_claim_any_time(origin: Path, tmp_path: Path) -> None:
    tree = tmp_path / "tree"
    git(tree, "commit", "--quiet", "--allow-empty", "-m", "far", GIT_AUTHOR_DATE="@99999999999 +0000")
    git(tree, "push", "--quiet", "origin", "HEAD:refs/heads/far")
    mirror = Mirror(tmp_path / "mirror.git", str(origin))
    mirror.fetch()
    assert mirror.commit(heads(str(origin))["refs/heads/far"]).at.year == 3000


@pytest.mark.parametrize("address", ["/nowhere", "-u/x", "ext::sh -c id", "file:///dev/null"])
def test_an_address_that_is_no_repository_is_an_error_with_gits_words(address: str) -> None:
    with pytest.raises(GitError, match=r"\w"):
        heads(address)


def test_a_hook_goes_in_twice_without_harm_and_comes_out_again(origin: Path) -> None:
    hook = origin / "hooks/post-receive"
    hook.write_text("#!/bin/sh\necho mine\n")
    hook.chmod(0o755)
    options = {"project": "p", "host": "127.0.0.1", "port": 1, "token": "t'; touch x; '", "python": "/usr/bin/python3"}
    assert install_hook(origin, **options) and install_hook(origin, **options)  # type: ignore[arg-type]
    assert (origin / "hooks/post-receive.before-myriant").read_text() == "#!/bin/sh\necho mine\n"
    done = subprocess.run([hook], input="a b refs/heads/main\n", capture_output=True, text=True, cwd=origin)
    assert "mine" in done.stdout and "cannot be reached" in done.stdout and not (origin / "x").exists()
    remove_hook(origin)
    assert hook.read_text() == "#!/bin/sh\necho mine\n" and not (origin / "hooks/myriant-ring.py").exists()


def test_changed_lines_are_those_of_the_new_file_whatever_they_hold(origin: Path, tmp_path: Path) -> None:
    tree = tmp_path / "tree"
    (tree / "a b.txt").write_text("one\ntwo\nthree\n")
    git(tree, "add", "--all")
    git(tree, "commit", "--quiet", "-m", "before")
    before = git(tree, "rev-parse", "HEAD")
    (tree / "a b.txt").write_text("one\n++ b/first\n@@ -1 +99 @@\nthree")
    (tree / "été.txt").write_text("x\ny\n")
    git(tree, "add", "--all")
    git(tree, "commit", "--quiet", "-m", "after")
    git(tree, "push", "--quiet", "origin", "HEAD:main")
    mirror = Mirror(tmp_path / "mirror.git", str(origin))
    mirror.fetch()
    after = git(tree, "rev-parse", "HEAD")
    assert mirror.changed_lines(before, after) == {"a b.txt": {2, 3, 4}, "été.txt": {1, 2}}
    assert set(mirror.changed_files(before, after) or ()) == {"a b.txt", "été.txt"}
    assert mirror.changed_files(before, "1" * 40) is None


def test_a_mirror_is_fetched_from_many_sides_at_once(origin: Path, tmp_path: Path) -> None:
    mirrors = [Mirror(tmp_path / "deep" / "mirror.git", str(origin)) for _ in range(8)]
    with ThreadPoolExecutor(8) as pool:
        list(pool.map(Mirror.fetch, mirrors))
    assert mirrors[0].branches() == {n.removeprefix("refs/heads/"): c for n, c in heads(str(origin)).items()}


def test_the_hook_tells_any_number_of_refs_and_shows_its_token_to_nobody(tmp_path: Path) -> None:
    heard: list[dict[str, str]] = []
    tokens: set[str | None] = set()

    class Bell(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            tokens.add(self.headers["Authorization"])
            heard.extend(json.loads(self.rfile.read(int(self.headers["Content-Length"])))["moved"])
            body = b'{"said": []}'
            self.send_response(200)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

    server = ThreadingHTTPServer(("127.0.0.1", 0), Bell)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    install_hook(
        tmp_path, project="p", host="127.0.0.1", port=server.server_port, token="s3cret", python=sys.executable
    )
    lines = [f"{'0' * 40} {'a' * 40} refs/heads/{'b' * 60}{i}" for i in range(5000)]  # more than arguments can hold
    done = subprocess.run([tmp_path / "hooks/post-receive"], input="\n".join(lines) + "\n", text=True, capture_output=True)  # fmt: skip
    server.shutdown()
    assert done.returncode == 0 and "cannot be reached" not in done.stdout, done
    assert len(heard) == 5000 and tokens == {"Bearer s3cret"}
    ring = next(line for line in (tmp_path / "hooks/post-receive").read_text().splitlines() if "myriant-ring" in line)
    assert "s3cret" not in ring.split("myriant-ring.py")[1]
