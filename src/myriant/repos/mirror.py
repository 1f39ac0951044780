"""The server's own copy of a repository."""

from __future__ import annotations

import fcntl
import hashlib
import random
import re
import secrets
import time
from collections.abc import Callable, Collection, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from myriant.core.diagnosis.naming import defined_in
from myriant.core.statements import may_be_statement
from myriant.repos import answers
from myriant.repos.git import GitError, git, is_object_id
from myriant.repos.remote import Remote

NOTES = "refs/notes/myriant"
_MOST_TRIES = 8  # of a note that others write too
_LATEST = 32_503_680_000  # year 3000: a commit may claim any time


_ATTRIBUTES = Path(__file__).parent / "attributes"
_HUNK = re.compile(r"@@ -(\d+)(?:,(\d+))? \+(\d+)(?:,(\d+))? @@")
_BEGINS = re.compile(r"\s*(?:\w+\s+){0,4}?(?:def|function|func|fn|fun|sub|defp|class|struct|trait|module|interface)\b")
Hunk = tuple[int, int, int, int]  # first old line, how many, first new line, how many


@dataclass(frozen=True, slots=True)
class Commit:
    id: str
    tree: str
    parents: tuple[str, ...]
    author: str
    mail: str
    at: datetime
    title: str


@dataclass(frozen=True, slots=True)
class Merge:
    """A merge of two commits; `commit` None: it has conflicts in these files."""

    commit: str | None
    tree: str
    conflicts: tuple[str, ...]


MOST_TEXTS, LARGEST_TEXT = 2000, 1 << 20  # files that are read together, and bytes of each


class Mirror:
    """A bare mirror at `path` of a repository."""

    def __init__(self, path: Path, remote: Remote, pulls: str = "") -> None:
        self.path, self.remote = path, remote
        self.pulls = pulls  # pattern of refs that are pull requests

    def fetch(self) -> None:
        """Bring branches and tags up to date; commits that a rewrite left behind are kept; one fetch at a time."""
        self.path.parent.mkdir(parents=True, exist_ok=True)
        with self.path.with_suffix(".lock").open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            if not (self.path / "HEAD").exists():
                git(None, "init", "--bare", "--quiet", str(self.path))
                for key in ("allowAnySHA1InWant", "allowReachableSHA1InWant"):
                    git(self.path, "config", f"uploadpack.{key}", "true")
            self.remote.git(
                self.path,
                "fetch",
                "--quiet",
                "--prune",
                "--force",
                "--no-auto-gc",
                "+refs/heads/*:refs/heads/*",
                "+refs/tags/*:refs/tags/*",
                *([f"+{self.pulls}:{self.pulls}"] if self.pulls else []),
            )

    def has(self, commit: str) -> bool:
        if not is_object_id(commit):
            return False
        try:
            git(self.path, "cat-file", "-e", f"{commit}^{{commit}}")
        except GitError:
            return False
        return True

    def commit(self, commit: str) -> Commit:
        """What a commit says of itself. Raises GitError when it is not there."""
        shown = git(
            self.path, "show", "-s", "--format=%H%x00%T%x00%P%x00%an%x00%ae%x00%at%x00%s", f"{commit}^{{commit}}", "--"
        )
        id_, tree, parents, author, mail, at, title = answers.word(shown).split("\0", 6)
        return Commit(
            id_,
            tree,
            tuple(parents.split(" ")) if parents else (),
            author,
            mail,
            datetime.fromtimestamp(min(max(int(at), 0), _LATEST), UTC),
            title[:500],
        )

    def file(self, commit: str, path: str) -> bytes | None:
        """A file's content at a commit, None when there is none."""
        try:
            return git(self.path, "cat-file", "blob", f"{commit}:{path}")
        except GitError:
            return None

    def texts(self, commit: str, paths: Collection[str]) -> dict[str, str]:
        """Files at a commit by path, by one call of git; too many or too large ones are left out."""
        asked = [p for p in paths if "\n" not in p][:MOST_TEXTS]
        feed = "".join(f"{commit}:{p}\n" for p in asked).encode("utf-8", "surrogateescape")
        sizes = answers.sizes(git(self.path, "cat-file", "--batch-check", feed=feed))
        small = [p for p, size in zip(asked, sizes, strict=True) if size is not None and size <= LARGEST_TEXT]
        feed = "".join(f"{commit}:{p}\n" for p in small).encode("utf-8", "surrogateescape")
        return dict(answers.blobs(git(self.path, "cat-file", "--batch", feed=feed), small))

    def files(self, commit: str) -> list[str]:
        """Paths of all files at a commit."""
        return answers.records(git(self.path, "ls-tree", "-r", "-z", "--name-only", commit))

    def first_parents(self, commit: str, limit: int = 5000) -> list[str]:
        """The commit and its first-parent ancestors, nearest first."""
        return answers.ids(git(self.path, "rev-list", "--first-parent", f"--max-count={limit}", commit, "--"))

    def depth(self, commit: str) -> int:
        """How many first-parent ancestors a commit has: its place in the order of ancestry."""
        return int(git(self.path, "rev-list", "--first-parent", "--count", commit, "--")) - 1

    def resolve(self, name: str) -> str | None:
        """The commit that a name means here: a branch, a tag or (the beginning of) a commit's id."""
        if not name or name.startswith("-"):
            return None
        for form in (f"refs/heads/{name}", f"refs/tags/{name}", name):
            try:
                words = ("--verify", "--quiet", "--end-of-options", f"{form}^{{commit}}")
                return answers.word(git(self.path, "rev-parse", *words))
            except GitError:
                continue
        return None

    def files_of_commits(self, commit: str, since: str, limit: int) -> list[tuple[str, list[str]]]:
        """The commit and its first-parent ancestors after `since`, nearest first, each with the files it changed.

        Raises GitError.
        """
        words = ("--first-parent", "--diff-merges=first-parent", f"--max-count={limit}", commit, f"^{since}", "--")
        return self._files_by_commit(*words)

    def files_of_path(self, commit: str, paths: Sequence[str], limit: int) -> list[list[str]]:
        """What each of the newest commits up to this one that changed one of these paths changed. Raises GitError."""
        words = ("--full-diff", "--no-merges", f"--max-count={limit}", commit, "--")
        return [files for _, files in self._files_by_commit(*words, *(f":(top,literal){p}" for p in paths))]

    def _files_by_commit(self, *words: str) -> list[tuple[str, list[str]]]:
        mark = secrets.token_hex(16)  # no file can be named so
        told = git(self.path, "log", "--name-only", "--no-renames", "-z", f"--format={mark}%H", *words)
        found: list[tuple[str, list[str]]] = []
        for part in answers.records(told):
            name = part.removeprefix("\n")
            if name.startswith(mark):
                found.append((name.removeprefix(mark), []))
            elif name:
                found[-1][1].append(name)
        return found

    def changed_files(self, before: str, after: str) -> tuple[str, ...] | None:
        """Paths that differ between two commits, None when one of them is not there."""
        try:
            listed = git(self.path, "diff", "--name-only", "-z", "--no-renames", before, after, "--")
        except GitError:
            return None
        return tuple(answers.records(listed))

    def changed_lines(self, before: str, after: str) -> dict[str, set[int]]:
        """The lines that a change added or modified, by path. Raises GitError."""
        return added_lines(self.hunks(before, after))

    def hunks(self, before: str, after: str) -> dict[str, list[Hunk]]:
        """By path at `after`: first old line, how many, first new line, how many; through renames. Raises GitError."""
        shown = git(
            self.path,
            "diff",
            "--unified=0",
            "--no-color",
            "--no-ext-diff",
            "--find-renames",
            "--src-prefix=a/",
            "--dst-prefix=b/",
            before,
            after,
            "--",
        )
        return hunks_in(answers.text(shown))

    def changed_functions(self, before: str, after: str) -> dict[str, set[str]]:
        """The functions and classes that a change lies in, defines or removes, by path at `after`. Raises GitError."""
        return functions_in(self.shown(before, after))

    def shown(self, before: str, after: str) -> str:
        """A difference without context, each part with the function that it lies in. Raises GitError."""
        settings = ("-c", f"core.attributesFile={_ATTRIBUTES}", "-c", "core.bigFileThreshold=1m")
        words = ("--unified=0", "--no-color", "--no-ext-diff", "--find-renames", "--src-prefix=a/", "--dst-prefix=b/")
        return answers.text(git(self.path, *settings, "diff", *words, before, after, "--"))

    def between(self, before: str, after: str, limit: int = 500) -> list[Commit]:
        """First-parent commits after `before` and before `after`, newest first; none when it was rewritten."""
        try:
            if not self.is_ancestor(before, after):
                return []
            words = ("--first-parent", f"--max-count={limit}", after, f"^{before}", "--")
            ids = answers.ids(git(self.path, "rev-list", *words))[1:]
        except GitError:
            return []
        return [self.commit(i) for i in ids]

    def authors(self, before: str, after: str, limit: int) -> list[str]:
        """Who wrote the commits of `after` that `before` has not, by address, the newest first. Raises GitError."""
        told = git(self.path, "log", "--format=%ae", f"--max-count={20 * limit}", after, f"^{before}", "--")
        return list(dict.fromkeys(answers.lines(told)))[:limit]

    def is_ancestor(self, ancestor: str, commit: str) -> bool:
        try:
            git(self.path, "merge-base", "--is-ancestor", ancestor, commit)
        except GitError:
            return False
        return True

    def fork_point(self, one: str, other: str) -> str | None:
        """The newest common ancestor of two commits."""
        try:
            return answers.ids(git(self.path, "merge-base", one, other))[0]
        except (GitError, IndexError):
            return None

    def merge(self, target: str, source: str, keep_as: str) -> Merge:
        """Merge `source` into `target` without a work tree and keep the result as a ref. Raises GitError.

        The merge commit has fixed author and date, so that the same merge has the same id.
        """
        try:
            git(self.path, "merge-base", target, source)
        except GitError as error:
            raise GitError("the two branches have no common ancestor") from error
        tree, conflicts = self._merged(target, source)
        if conflicts:
            return Merge(None, tree, conflicts)
        if self.commit(source).tree == tree and self.is_ancestor(target, source):
            return Merge(source, tree, ())
        dated = "2000-01-01T00:00:00Z"
        commit = answers.word(
            git(
                self.path,
                "commit-tree",
                tree,
                "-p",
                target,
                "-p",
                source,
                "-m",
                f"Merge {source[:12]} into {target[:12]}",
                environment={"GIT_AUTHOR_DATE": dated, "GIT_COMMITTER_DATE": dated},
            )
        )
        git(self.path, "update-ref", f"refs/myriant/merges/{keep_as}", commit)
        return Merge(commit, tree, ())

    def merge_upon(self, base: str, source: str, message: str, at: datetime, keep_as: str) -> Merge:
        """A merge commit of `source` upon `base`, dated, kept as a ref: what a branch would become. Raises GitError."""
        tree, conflicts = self._merged(base, source)
        if conflicts:
            return Merge(None, tree, conflicts)
        dated = at.isoformat()
        commit = answers.word(
            git(
                self.path,
                "commit-tree",
                tree,
                "-p",
                base,
                "-p",
                source,
                "-F",
                "-",
                feed=message.encode(),
                environment={"GIT_AUTHOR_DATE": dated, "GIT_COMMITTER_DATE": dated},
            )
        )
        git(self.path, "update-ref", f"refs/myriant/batches/{keep_as}", commit)
        return Merge(commit, tree, ())

    def _merged(self, base: str, source: str) -> tuple[str, tuple[str, ...]]:
        """The tree of a merge, and the files in which it has conflicts. Raises GitError."""
        words = ("merge-tree", "--write-tree", "-z", "--name-only", "--no-messages", base, source)
        written = answers.text(git(self.path, *words, allowed=(0, 1))).split("\0")
        return written[0], tuple(dict.fromkeys(p for p in written[1:] if p))

    def branches(self) -> dict[str, str]:
        """Branches of the mirror and their commits."""
        found = answers.refs(git(self.path, "for-each-ref", "--format=%(objectname) %(refname)", "refs/heads/"))
        return {name.removeprefix("refs/heads/"): commit for name, commit in found.items()}

    def tags(self) -> str:
        """A digest of the repository's tags and what they name."""
        listed = git(self.path, "for-each-ref", "--format=%(refname) %(objectname)", "refs/tags")
        return hashlib.sha256(listed).hexdigest()

    def commit_file(self, parent: str | None, path: str, content: bytes, message: str, author: str) -> str:
        """Make a commit that changes one file at the root; without a parent, a first commit. Raises GitError."""
        blob = answers.word(git(self.path, "hash-object", "-w", "--stdin", feed=content))
        listed = git(self.path, "ls-tree", "-z", parent).split(b"\0") if parent else []
        rows = [row for row in listed if row and row.partition(b"\t")[2] != path.encode()]
        rows.append(f"100644 blob {blob}\t{path}".encode())
        tree = answers.word(git(self.path, "mktree", "-z", feed=b"\0".join(rows) + b"\0"))
        clean = re.sub(r"[<>\n\0]", " ", author).strip() or "Myriant"
        who = {
            f"GIT_{role}_{key}": value
            for role in ("AUTHOR", "COMMITTER")
            for key, value in (("NAME", clean), ("EMAIL", f"{re.sub('[^a-zA-Z0-9.-]', '-', clean)}@localhost"))
        }
        parents = ["-p", parent] if parent else []
        return answers.word(
            git(
                self.path,
                "commit-tree",
                tree,
                *parents,
                "-F",
                "-",
                feed=message.replace("\0", " ").encode(),
                environment=who,
            )
        )

    def send(self, commit: str, branch: str, expected: str | None) -> None:
        """Push a commit to a branch that is still at `expected` (None: not there). Raises GitError."""
        ref = f"refs/heads/{branch}"
        lease = f"--force-with-lease={ref}:{expected or ''}"
        self.remote.git(self.path, "push", "--quiet", lease, f"{commit}:{ref}")

    def grep(self, commit: str, word: str) -> bool:
        """Whether a word stands in some file at a commit."""
        try:
            git(self.path, "grep", "--quiet", "--fixed-strings", "-e", word, commit, "--")
        except GitError:
            return False
        return True

    def files_with(self, commit: str, words: Collection[str]) -> dict[str, set[str]]:
        """By word, the files at a commit in which it stands by itself. Raises GitError."""
        wanted = sorted({w for w in words if w.strip() and "\n" not in w and "\0" not in w})
        if not wanted:
            return {}
        listed = git(
            self.path,
            "grep",
            "-z",
            "-o",
            "-I",
            "-w",
            "--fixed-strings",
            "--full-name",
            "-f",
            "-",
            commit,
            "--",
            feed="\n".join(wanted).encode() + b"\n",
            allowed=(0, 1),
        )
        found: dict[str, set[str]] = {}
        for line in answers.lines(listed):
            path, _, word = line.partition("\0")
            if word:
                found.setdefault(word, set()).add(path.partition(":")[2])
        return found

    def renames(self, before: str, after: str) -> dict[str, str]:
        """Files that git sees under another name: by their path now, the one before."""
        try:
            told = git(self.path, "diff", "--name-status", "-M", "-z", "--diff-filter=R", before, after, "--")
        except GitError:
            return {}
        parts = answers.records(told)
        return {parts[i + 2]: parts[i + 1] for i in range(0, len(parts) - 2, 3)}

    def tell_outcome(self, pull: int, commit: str, word: str, words: Sequence[str]) -> None:
        """Leave the word of a pull request as a ref in the repository, in place of the word before."""
        ref = f"refs/myriant/outcomes/{pull}"
        others = [f":{ref}/{w}" for w in words if w != word]
        self.remote.git(self.path, "push", "--quiet", "--force", f"+{commit}:{ref}/{word}", *others)

    def note_here(self, commit: str, text: str) -> None:
        """Write the commit note in the mirror only; `send_notes` delivers many at once."""
        git(self.path, "notes", f"--ref={NOTES}", "add", "--force", "--file=-", commit, feed=text.encode())

    def send_notes(self) -> None:
        self.remote.git(self.path, "push", "--quiet", f"{NOTES}:{NOTES}")

    def note(self, commit: str, compose: Callable[[str], str]) -> str:
        """Write the commit note and send it to the repository; what was written.

        `compose` makes it of the note that stands there. Who wrote since we looked is heard first: what is sent is
        refused then, and composed anew. Most often nobody did, so theirs are fetched only when ours are refused.
        """
        for attempt in range(_MOST_TRIES):
            if attempt:
                self._fetch_notes()
            noted = self._noted(commit)
            text = compose(noted)
            if noted.strip() != text.strip():
                self.note_here(commit, text)
            try:
                self.send_notes()
                return text
            except GitError:
                if attempt == _MOST_TRIES - 1:
                    raise
                time.sleep(0.05 * attempt * random.random())  # writers that met do not meet again
        raise AssertionError("unreachable")

    def _fetch_notes(self) -> None:
        try:
            self.remote.git(self.path, "fetch", "--quiet", "--force", f"+{NOTES}:{NOTES}")
        except GitError as error:
            if not re.search(r"could(n't| not) find remote ref", str(error), re.IGNORECASE):
                raise

    def _noted(self, commit: str) -> str:
        try:
            return answers.text(git(self.path, "notes", f"--ref={NOTES}", "show", commit))
        except GitError:
            return ""


def hunks_in(shown: str) -> dict[str, list[Hunk]]:
    """The hunks of a difference without context, as git-diff(1) writes it with the prefixes a/ and b/."""
    found: dict[str, list[Hunk]] = {}
    rows: list[Hunk] = []
    inside = 0  # lines of the hunk still to come: they may look like headers
    for line in shown.split("\n"):
        if inside:
            inside -= not line.startswith("\\")
        elif line.startswith("+++ "):
            path = answers.header_path(line[4:], "b/")
            rows = found.setdefault(path, []) if path else []
        elif hunk := _HUNK.match(line):
            old, removed, new, added = int(hunk[1]), int(hunk[2] or 1), int(hunk[3]), int(hunk[4] or 1)
            rows.append((old, removed, new, added))
            inside = removed + added
    return found


def functions_in(shown: str) -> dict[str, set[str]]:
    """The names of functions that hunks lie in, or that their lines define, of a difference as in hunks_in."""
    found: dict[str, set[str]] = {}
    names: set[str] = set()
    inside = 0
    for line in shown.split("\n"):
        if inside:
            inside -= not line.startswith("\\")
            names.add(defined_in(line[1:]) if _BEGINS.match(line, 1) else "")
        elif line.startswith(("+++ ", "--- ")):
            if path := answers.header_path(line[4:], "b/" if line.startswith("+") else "a/"):
                names = found.setdefault(path, set())
        elif hunk := re.match(r"@@ -\d+(?:,(\d+))? \+\d+(?:,(\d+))? @@ ?(.*)", line):
            inside = int(hunk[1] or 1) + int(hunk[2] or 1)
            names.add(defined_in(hunk[3]))
    return {path: told - {""} for path, told in found.items()}


def idle_in(shown: str) -> set[str]:
    """Files of which only comments and blank lines differ, of a difference as in hunks_in."""
    found: dict[str, bool] = {}
    path = ""
    inside = 0
    for line in shown.split("\n"):
        if inside:
            inside -= not line.startswith("\\")
            found[path] &= not may_be_statement(path, line[1:])
        elif line.startswith(("+++ ", "--- ")):
            path = answers.header_path(line[4:], "b/" if line.startswith("+") else "a/") or path
        elif hunk := _HUNK.match(line):
            inside = int(hunk[2] or 1) + int(hunk[4] or 1)
            found.setdefault(path, True)
    return {p for p, idle in found.items() if idle}


def added_lines(hunks: Mapping[str, Sequence[Hunk]]) -> dict[str, set[int]]:
    """The new lines of hunks, by path."""
    return {path: {n for _, _, at, many in rows for n in range(at, at + many)} for path, rows in hunks.items()}
