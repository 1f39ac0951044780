"""What the tests that ran here cover, and which of the lines that changed here they do not."""

from __future__ import annotations

import subprocess
from collections.abc import Collection, Mapping, Sequence
from contextlib import suppress
from functools import partial
from pathlib import Path

from myriant.core.coverage.merge import merge_files
from myriant.core.coverage.model import FileCoverage, Totals
from myriant.core.coverage.view import changed_files
from myriant.core.written import counted, percent, ranges
from myriant.repos.mirror import added_lines, hunks_in

_MOST = 10  # files that are named


def files_here(tree: Path) -> frozenset[str] | None:
    """The files of a working tree from the top of its repository; None outside git."""
    listed = _git(tree, "ls-files", "-z", "--full-name", "--cached", "--others", "--exclude-standard", ":/")
    return frozenset(filter(None, listed.split("\0"))) if listed is not None else None


def covered(parts: Sequence[Mapping[str, FileCoverage]], tree: Path) -> list[str]:
    """In sentences: how much is covered, and the changed lines that nothing ran; none without coverage."""
    files = merge_files(parts)
    share = sum((f.totals for f in files.values()), Totals())
    if share.line_share is None:
        return []
    said = f"{percent(share.line_share)} of {counted(share.lines_valid, 'line')} are covered"
    since = _since(tree)
    if since is None:
        return ["", f"{said}."]
    name, commit = since
    found = changed_files(files, _changed(tree, commit), files_here(tree) or (), partial(_texts, tree))
    if found is None:
        return ["", f"{said}; no report names a file of this repository."]
    coverable, bare = sum(f.coverable for f in found), [f for f in found if f.uncovered]
    if not coverable:
        return ["", f"{said}; nothing that changed since {name} can be covered."]
    if not bare:
        return ["", f"{said}, and all {counted(coverable, 'line')} that changed since {name}."]
    count = sum(len(f.uncovered) for f in bare)
    lines = ["", f"{said}; {count:,} of {counted(coverable, 'line')} that changed since {name} were run by nothing:"]
    lines += [f"  {f.path}:{ranges(f.uncovered, 8)}" for f in bare[:_MOST]]
    return lines + ([f"  and {counted(len(bare) - _MOST, 'further file')}"] if len(bare) > _MOST else [])


def _texts(tree: Path, paths: Collection[str]) -> dict[str, str]:
    """Files of the repository as they stand here, by their paths from the top."""
    top = Path((_git(tree, "rev-parse", "--show-toplevel") or str(tree)).strip())
    found = {}
    for path in paths:
        with suppress(OSError):
            found[path] = (top / path).read_text("utf-8", "replace")
    return found


def _since(tree: Path) -> tuple[str, str] | None:
    """What the working tree is compared with: where it left its upstream, else the remote's main branch, else HEAD."""
    for name in ("@{upstream}", "origin/HEAD", "HEAD"):
        shown = _git(tree, "rev-parse", "--abbrev-ref", name)
        commit = _git(tree, "merge-base", "HEAD", name)
        if shown is not None and commit:
            return ("the last commit" if name == "HEAD" else shown.strip()), commit.strip()
    return None


def _changed(tree: Path, commit: str) -> dict[str, set[int]]:
    """Lines that were changed or added since a commit, also in files that git does not know yet, by path."""
    shown = _git(
        tree,
        "diff",
        "--unified=0",
        "--no-color",
        "--no-ext-diff",
        "--find-renames",
        "--src-prefix=a/",
        "--dst-prefix=b/",
        commit,
        "--",
    )
    found = added_lines(hunks_in(shown or ""))
    top = Path((_git(tree, "rev-parse", "--show-toplevel") or str(tree)).strip())
    for path in filter(None, (_git(top, "ls-files", "-z", "--others", "--exclude-standard") or "").split("\0")):
        try:
            found[path] = set(range(1, (top / path).read_bytes().count(b"\n") + 1))
        except OSError:
            continue
    return found


def _git(folder: Path, *words: str) -> str | None:
    command = ["git", "-c", "core.quotepath=false", "-C", str(folder), *words]
    done = subprocess.run(command, capture_output=True, check=False)
    return done.stdout.decode("utf-8", "replace") if done.returncode == 0 else None
