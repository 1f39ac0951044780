"""Git's answers are read by bytes, and in one place: names may hold whatever git lets them hold."""

from __future__ import annotations

import ast
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from test_mirror import git

from myriant.repos import answers
from myriant.repos.mirror import Mirror
from myriant.repos.remote import Remote, heads

SOURCES = Path(answers.__file__).parents[1]
ODD = [
    "a\u2028b",
    "a\u2029b",
    "a\u0085b",
    "a\u00a0b",
    'quo"te',
    "back\\slash",
    "ta\tb",
    "new\nline",
    "\x01" + "c" * 40,
    "zoë",
    " ",
]


@pytest.fixture(scope="module")
def odd(tmp_path_factory: pytest.TempPathFactory) -> tuple[Mirror, str, str]:
    """A repository whose second commit changes a line of every oddly named file; its mirror and both commits."""
    tree = tmp_path_factory.mktemp("odd")
    git(tree, "init", "--quiet", "--initial-branch=main")
    commits = []
    for text in ("one\ntwo\n", "one\nTWO\n"):
        for name in ODD:
            (tree / name).write_text(text)
        git(tree, "add", "--all")
        git(tree, "commit", "--quiet", "-m", "a change\u2028of two lines")
        commits.append(git(tree, "rev-parse", "HEAD"))
    for branch in ("main\u2028x", "main\u0085", "a\u00a0b"):
        git(tree, "branch", branch)
    mirror = Mirror(tree / "mirror.git", Remote(str(tree)))
    mirror.fetch()
    return mirror, commits[0], commits[1]


def test_paths_and_branches_are_whole(odd: tuple[Mirror, str, str]) -> None:
    mirror, before, after = odd
    plain = [n for n in ODD if "\n" not in n]
    assert sorted(mirror.files(after)) == sorted(ODD)
    assert sorted(mirror.changed_files(before, after) or ()) == sorted(ODD)
    assert mirror.texts(after, [*ODD, "not\u2028there"]) == dict.fromkeys(plain, "one\nTWO\n")
    assert mirror.hunks(before, after) == {name: [(2, 1, 2, 1)] for name in ODD}
    assert set(mirror.changed_functions(before, after)) == set(ODD)
    [(commit, files)] = mirror.files_of_commits(after, before, 9)
    assert commit == after and sorted(files) == sorted(ODD)
    assert all(sorted(files) == sorted(ODD) for files in mirror.files_of_path(after, [ODD[0]], 9))
    names = {"main", "main\u2028x", "main\u0085", "a\u00a0b"}
    assert set(mirror.branches()) == names
    assert heads(mirror.remote) == {f"refs/heads/{n}": after for n in names}
    assert heads(mirror.remote, only=["refs/heads/main"]) == {"refs/heads/main": after}
    assert mirror.commit(after).title == "a change\u2028of two lines"


@given(st.text(st.characters(blacklist_characters="\0\n", blacklist_categories=["Cs"]), min_size=1))
def test_a_name_of_a_ref_is_what_follows_its_object(name: str) -> None:
    told = f"{'a' * 40}\trefs/heads/{name}\n{'b' * 40}\trefs/heads/main\n".encode()
    assert answers.refs(told) == {f"refs/heads/{name}": "a" * 40, "refs/heads/main": "b" * 40} or name == "main"
    assert bool(answers.unseen(name)) == (answers.shown(name) != name)


def test_no_other_place_reads_what_git_prints() -> None:
    """Whoever calls git hands its answer on: it is decoded and cut here only."""
    found = []
    for file in sorted(SOURCES.rglob("*.py")):
        text = file.read_text(encoding="utf-8")
        if file.name in ("answers.py", "git.py") or "from myriant.repos.git import" not in text:
            continue
        for node in ast.walk(ast.parse(text)):
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute):
                cuts = node.func.attr in ("decode", "splitlines") or (node.func.attr == "split" and not node.args)
                if cuts and "git(" in ast.unparse(node.func.value):
                    found.append(f"{file.relative_to(SOURCES)}:{node.lineno}")
    mine = [f for f in SOURCES.glob("repos/*.py") if f.name not in ("answers.py", "git.py", "hook.py", "door.py")]
    found += [f.name for f in mine if ".splitlines(" in f.read_text() or ".decode(" in f.read_text()]
    assert not found
