"""The server's own copy of a repository."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

from myriant.repos.git import GitError, git, is_object_id

NOTES = "refs/notes/myriant"
_LATEST = 32_503_680_000  # year 3000: a commit may claim any time


@dataclass(frozen=True, slots=True)
class Commit:
    id: str
    tree: str
    parents: tuple[str, ...]
    author: str
    mail: str
    at: datetime
    title: str


class Mirror:
    """A bare mirror at `path` of the repository at `address`."""

    def __init__(self, path: Path, address: str) -> None:
        self.path, self.address = path, address

    def fetch(self) -> None:
        """Bring branches and tags up to date; commits that a rewrite left behind are kept."""
        if not (self.path / "HEAD").exists():
            self.path.parent.mkdir(parents=True, exist_ok=True)
            git(None, "init", "--bare", "--quiet", str(self.path))
            for key in ("allowAnySHA1InWant", "allowReachableSHA1InWant"):
                git(self.path, "config", f"uploadpack.{key}", "true")
        git(
            self.path, "fetch", "--quiet", "--prune", "--force", "--no-auto-gc", "--",
            self.address, "+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*",
        )  # fmt: skip

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
        id_, tree, parents, author, mail, at, title = shown.decode("utf-8", "replace").rstrip("\n").split("\0", 6)
        return Commit(
            id_,
            tree,
            tuple(parents.split()),
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

    def files(self, commit: str) -> list[str]:
        """Paths of all files at a commit."""
        listed = git(self.path, "ls-tree", "-r", "-z", "--name-only", commit)
        return [p for p in listed.decode("utf-8", "replace").split("\0") if p]

    def first_parents(self, commit: str, limit: int = 5000) -> list[str]:
        """The commit and its first-parent ancestors, nearest first."""
        return git(self.path, "rev-list", "--first-parent", f"--max-count={limit}", commit, "--").decode().split()

    def depth(self, commit: str) -> int:
        """How many first-parent ancestors a commit has: its place in the order of ancestry."""
        return int(git(self.path, "rev-list", "--first-parent", "--count", commit, "--")) - 1

    def note_here(self, commit: str, text: str) -> None:
        """Write the commit note in the mirror only; `send_notes` delivers many at once."""
        git(self.path, "notes", f"--ref={NOTES}", "add", "--force", "--file=-", commit, feed=text.encode())

    def send_notes(self) -> None:
        git(self.path, "push", "--quiet", "--", self.address, f"{NOTES}:{NOTES}")

    def note(self, commit: str, text: str) -> None:
        """Write the commit note and send it to the repository; another writer's notes are kept."""
        for attempt in range(5):
            try:
                git(self.path, "fetch", "--quiet", "--force", "--", self.address, f"+{NOTES}:{NOTES}")
            except GitError as error:
                if (
                    "couldn't find remote ref" not in str(error).lower()
                    and "could not find remote ref" not in str(error).lower()
                ):
                    raise
            try:
                known = git(self.path, "notes", f"--ref={NOTES}", "show", commit).decode("utf-8", "replace")
            except GitError:
                known = None
            if known is not None and known.strip() == text.strip():
                return
            self.note_here(commit, text)
            try:
                git(self.path, "push", "--quiet", "--", self.address, f"{NOTES}:{NOTES}")
                return
            except GitError:
                if attempt == 4:
                    raise


def heads(address: str) -> dict[str, str]:
    """Branches of a repository and their commits, by full name. Raises GitError with the reason otherwise."""
    if address.startswith("-"):
        raise GitError("an address cannot begin with a hyphen")
    listed = git(None, "ls-remote", "--heads", "--", address, timeout=60).decode("utf-8", "replace")
    found = {}
    for line in listed.splitlines():
        commit, _, name = line.partition("\t")
        if is_object_id(commit) and name.startswith("refs/heads/"):
            found[name] = commit
    return found
