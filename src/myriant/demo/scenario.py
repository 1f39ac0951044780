"""Real commits in the demo's repositories, one scenario each."""

from __future__ import annotations

import subprocess
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from myriant.demo.people import ANSELM, INGRID, TOBIAS, Author


@dataclass(frozen=True, slots=True)
class Edit:
    """Replace `old` by `new` in a file of a work tree."""

    file: str
    old: str
    new: str

    def applies(self, tree: Path) -> bool:
        return self.old in (tree / self.file).read_text(encoding="utf-8")

    def apply(self, tree: Path) -> None:
        path = tree / self.file
        path.write_text(path.read_text(encoding="utf-8").replace(self.old, self.new), encoding="utf-8")


_RULER = """  local cells = {}
  for i = 1, marks do cells[i] = "+----" end
  return table.concat(cells, " ")
"""
_SHORT_RULER = """  return string.rep("+----", marks, " ")
"""
_BREAK = Edit("lockstep/gauge.lua", _RULER, _SHORT_RULER)  # Lua 5.1 ignores the separator
_FIX = Edit("lockstep/gauge.lua", _SHORT_RULER, _RULER)


def clone_of(folder: Path, repository: str) -> Path:
    return folder / "work" / repository


def commit(tree: Path, author: Author, message: str, *, at: str | None = None) -> None:
    """Commit everything in the work tree, as an invented person."""
    when = {"GIT_AUTHOR_DATE": at, "GIT_COMMITTER_DATE": at} if at else {}
    git(tree, "add", "--all")
    names = {
        "GIT_AUTHOR_NAME": author.name,
        "GIT_AUTHOR_EMAIL": author.mail,
        "GIT_COMMITTER_NAME": author.name,
        "GIT_COMMITTER_EMAIL": author.mail,
    }
    git(tree, "commit", "--quiet", "--no-verify", "-m", message, environment={**names, **when})


def git(tree: Path, *words: str, environment: dict[str, str] | None = None) -> str:
    """Git as an ordinary person's command, without this machine's configuration."""
    clean = {
        "PATH": "/usr/local/bin:/usr/bin:/bin",
        "HOME": "/nonexistent",
        "GIT_CONFIG_NOSYSTEM": "1",
        "LC_ALL": "C.UTF-8",
    }
    done = subprocess.run(
        ["git", "-c", "safe.directory=*", *words],
        cwd=tree,
        env=clean | (environment or {}),
        capture_output=True,
        text=True,
        check=False,
    )
    if done.returncode != 0:
        raise RuntimeError(f"git {words[0]} failed: {done.stderr.strip()}")
    return done.stdout + done.stderr


def _break(tree: Path) -> tuple[Author, str]:
    if _BREAK.applies(tree):
        _BREAK.apply(tree)
        return TOBIAS, "Draw the ruler in one go"
    return _note(tree, INGRID, "Note the autumn levels")


def _fix(tree: Path) -> tuple[Author, str]:
    if _FIX.applies(tree):
        _FIX.apply(tree)
        return ANSELM, "Draw the ruler so that every Lua spaces it"
    return _note(tree, ANSELM, "Note the winter levels")


def _note(tree: Path, author: Author, message: str) -> tuple[Author, str]:
    """A harmless commit: a line in the levels book."""
    book = tree / "LEVELS.md"
    known = book.read_text(encoding="utf-8") if book.exists() else "# Levels\n"
    book.write_text(
        f"{known}\n- reading {known.count('- reading') + 1}: all locks within their marks\n", encoding="utf-8"
    )
    return author, message


SCENARIOS: dict[str, Callable[[Path], tuple[Author, str]]] = {"break": _break, "fix": _fix}


def push(folder: Path, what: str) -> list[str]:
    """Commit a scenario in lockstep and push it to main; what git and the hook said."""
    tree = clone_of(folder, "lockstep")
    git(tree, "fetch", "--quiet", "origin")
    git(tree, "reset", "--quiet", "--hard", "origin/main")
    author, message = SCENARIOS[what](tree)
    commit(tree, author, message)
    said = git(tree, "push", "--quiet", "origin", "HEAD:main")
    head = git(tree, "rev-parse", "--short", "HEAD").strip()
    return [
        f'{head} "{message}" by {author.name} is pushed to main of lockstep',
        *(line.removeprefix("remote: ").strip() for line in said.splitlines() if line.strip()),
    ]
