"""The stand-in host: repositories with forks, pull requests, required outcomes that refuse a merge, and events.

It knows nothing of who listens: outcomes come in and events go out over HTTP, as with any host.
"""

from __future__ import annotations

import hashlib
import hmac
import json
import re
import secrets
import threading
import time
import urllib.error
import urllib.request
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from myriant.standins.repository import Bare, GitRefused, git

_NAME = re.compile(r"[a-z0-9][a-z0-9-]{0,59}")
PASSES = ("clear", "exempt")
MOST_TRIES = 200
LONGEST_WAIT = 10.0


class Refused(Exception):
    """What was asked is not done; `status` is the HTTP status that says so."""

    def __init__(self, said: str, status: int = 422) -> None:
        super().__init__(said)
        self.status = status


@dataclass
class Outcome:
    """What somebody outside said of a commit. `base`: the target's commit that it was tested with, where it is told."""

    context: str
    state: str
    sentence: str = ""
    address: str = ""
    base: str = ""
    at: str = ""


@dataclass
class Change:
    """A pull request."""

    number: int
    title: str
    author: str
    origin: str  # the repository that its branch is in
    source: str
    target: str
    may_write: bool = True
    state: str = "open"
    head: str = ""
    text: str = ""  # kept up to date by somebody outside
    merged_as: str = ""


@dataclass
class Repository:
    name: str
    fork_of: str = ""
    required: list[str] = field(default_factory=list)  # whose outcomes a merge needs
    strict: bool = False  # they must be about the target as it is now
    address: str = ""  # where events go
    secret: str = ""
    changes: dict[int, Change] = field(default_factory=dict)
    outcomes: dict[str, dict[str, Outcome]] = field(default_factory=dict)  # by commit and context
    refs: dict[str, str] = field(default_factory=dict)  # branches as they were last seen


class Host:
    """A folder of bare repositories and what is said of them; safe for several threads."""

    def __init__(self, folder: Path, address: str = "", token: str = "") -> None:
        self.folder, self.address = folder, address
        self.token = token or secrets.token_urlsafe(24)
        self.sent: list[tuple[str, str]] = []  # event types and what was answered, oldest first
        self._lock = threading.RLock()
        self._queue: list[tuple[str, dict[str, Any], int, float]] = []
        self._ended = threading.Event()
        self._news = threading.Condition()
        self.repositories: dict[str, Repository] = {}
        folder.mkdir(parents=True, exist_ok=True)
        self._read()
        with self._changing():
            pass  # its token is kept from the beginning

    # --- what is kept ---------------------------------------------------------------------------

    @property
    def _file(self) -> Path:
        return self.folder / "host.json"

    def _read(self) -> None:
        if not self._file.exists():
            return
        kept = json.loads(self._file.read_text())
        self.token = kept["token"]
        for row in kept["repositories"]:
            row["changes"] = {int(n): Change(**c) for n, c in row["changes"].items()}
            row["outcomes"] = {k: {c: Outcome(**o) for c, o in v.items()} for k, v in row["outcomes"].items()}
            self.repositories[row["name"]] = Repository(**row)

    @contextmanager
    def _changing(self) -> Iterator[None]:
        with self._lock:
            yield
            part = self._file.with_suffix(".part")
            kept = {"token": self.token, "repositories": [asdict(r) for r in self.repositories.values()]}
            part.touch(mode=0o600)
            part.write_text(json.dumps(kept))
            part.replace(self._file)

    def repository(self, name: str) -> Repository:
        """Raises Refused when there is none of the name."""
        found = self.repositories.get(name)
        if found is None:
            raise Refused(f"there is no repository {name[:80]}", 404)
        return found

    def change(self, name: str, number: int) -> Change:
        found = self.repository(name).changes.get(number)
        if found is None:
            raise Refused(f"{name} has no pull request {number}", 404)
        return found

    def bare(self, name: str) -> Bare:
        return Bare(self.folder / f"{name}.git")

    # --- repositories ---------------------------------------------------------------------------

    def add(self, name: str, fork_of: str = "") -> Repository:
        """Take up a repository that is there, or make a new or forked one."""
        if not _NAME.fullmatch(name):
            raise Refused("a name has small letters, digits and hyphens")
        with self._changing():
            if name in self.repositories:
                return self.repositories[name]
            path = self.folder / f"{name}.git"
            if fork_of:
                git(None, "clone", "--quiet", "--bare", str(self.bare(self.repository(fork_of).name).path), str(path))
            elif not path.exists():
                git(None, "init", "--quiet", "--bare", "--initial-branch=main", str(path))
            made = Repository(name, fork_of, refs=Bare(path).branches())
            self.repositories[name] = made
            return made

    def rule(self, name: str, required: list[str], protected: list[str], *, strict: bool) -> None:
        with self._changing():
            row = self.repository(name)
            row.required, row.strict = required, strict
            for branch in protected:
                self.bare(name).protect(branch)

    def tell(self, name: str, address: str, secret: str) -> None:
        """Send events of a repository to an address, signed with a secret."""
        with self._changing():
            row = self.repository(name)
            row.address, row.secret = address, secret

    # --- pull requests --------------------------------------------------------------------------

    def open(
        self,
        name: str,
        *,
        title: str,
        author: str,
        source: str,
        target: str = "main",
        origin: str = "",
        may_write: bool = True,
    ) -> Change:
        with self._changing():
            row = self.repository(name)
            number = max(row.changes, default=0) + 1
            made = Change(number, title, author, origin or name, source, target, may_write)
            self._bring(row, made)
            row.changes[number] = made
            self._say(row, made, "created")
            return made

    def _bring(self, row: Repository, change: Change) -> bool:
        """Bring a pull request's ref to its branch's head; whether it moved. One of a fork is a ref of its own."""
        there = self.bare(change.origin).branches().get(change.source)
        if there is None:
            raise Refused(f"{change.origin} has no branch {change.source[:80]}")
        moved, change.head = change.head != there, there
        if moved and change.origin != row.name:
            self.bare(row.name).take(self.bare(change.origin).path, change.source, f"refs/changes/{change.number}/head")
        return moved

    def close(self, name: str, number: int) -> None:
        with self._changing():
            change = self.change(name, number)
            if change.state == "open":
                change.state = "closed"
                self._say(self.repository(name), change, "abandoned")

    def in_the_way(self, name: str, number: int) -> list[str]:
        """Why a pull request cannot be merged, one line each; none when it can."""
        row, change = self.repository(name), self.change(name, number)
        if change.state != "open":
            return [f"it is {change.state}"]
        return self.missing(row, change.head, change.target)

    def missing(self, row: Repository, commit: str, target: str) -> list[str]:
        """What the required outcomes of a commit lack."""
        found, at = row.outcomes.get(commit, {}), self.bare(row.name).branches().get(target, "")
        lines = []
        for context in row.required:
            said = found.get(context)
            if said is None:
                lines.append(f"{context} has said nothing of {commit[:7]} yet")
            elif said.state not in PASSES:
                lines.append(f"{context} says {said.state}: {said.sentence}")
            elif row.strict and said.base != at:
                lines.append(f"{target} has moved since {context} looked")
        return lines

    def merge(self, name: str, number: int) -> str:
        """Merge a pull request; the commit. Raises Refused with what is in the way."""
        with self._changing():
            reasons = self.in_the_way(name, number)
            if reasons:
                raise Refused("; ".join(reasons), 409)
            row, change = self.repository(name), self.change(name, number)
            try:
                made = self.bare(name).merge(change.target, change.head, f"Merge {number}: {change.title}\n")
            except GitRefused as error:
                raise Refused(str(error), 409) from error
            change.state, change.merged_as = "merged", made
            row.refs = self.bare(name).branches()
            self._say(row, change, "merged")
            self._ring(row)
            return made

    def say(self, name: str, commit: str, outcome: Outcome) -> None:
        """Keep what somebody outside said of a commit, in place of what they said before."""
        with self._changing():
            row = self.repository(name)
            row.outcomes.setdefault(commit, {})[outcome.context] = outcome

    def write(self, name: str, number: int, text: str) -> None:
        """Keep the text on a pull request, in one place."""
        with self._changing():
            self.change(name, number).text = text[:20_000]

    def look(self) -> None:
        """See what was pushed, by whatever way, and tell of it."""
        with self._lock:
            seen = {name: self.bare(name).branches() for name in self.repositories}
            if all(seen[name] == row.refs for name, row in self.repositories.items()):
                return
        with self._changing():
            for name, row in self.repositories.items():
                for change in row.changes.values():
                    gone = change.source not in seen[change.origin]
                    if change.state == "open" and not gone and self._bring(row, change):
                        self._say(row, change, "updated")
                if row.refs != seen[name]:
                    row.refs = seen[name]
                    self._ring(row)

    # --- events ---------------------------------------------------------------------------------

    def _say(self, row: Repository, change: Change, what: str) -> None:
        ref = f"refs/changes/{change.number}/head"
        content = {
            "number": change.number,
            "title": change.title,
            "author": change.author,
            "source": change.source if change.origin == row.name else ref,
            "target": change.target,
            "authorMayWrite": change.may_write,
        }
        subject = {"id": f"{row.name}/{change.number}", "type": "change", "content": content}
        self._put(row, f"dev.cdevents.change.{what}.0.2.0", {"subject": subject})

    def _ring(self, row: Repository) -> None:
        self._put(row, "dev.cdevents.repository.modified.0.2.0", {"subject": {"id": row.name, "type": "repository"}})

    def _put(self, row: Repository, kind: str, data: dict[str, Any]) -> None:
        if not row.address:
            return
        event = {
            "specversion": "1.0",
            "id": uuid.uuid4().hex,
            "source": f"{self.address}/{row.name}",
            "type": kind,
            "time": datetime.now(UTC).isoformat(),
            "datacontenttype": "application/json",
            "data": data,
        }
        with self._news:
            self._queue.append((row.name, event, 0, 0.0))
            self._news.notify_all()

    def work(self) -> None:
        """Send events, each until it is taken, and look for what was pushed, until the end."""
        while not self._ended.is_set():
            with self._news:
                now = time.monotonic()
                due = next((q for q in self._queue if q[3] <= now), None)
                if due is None:
                    self._news.wait(0.5)
                else:
                    self._queue.remove(due)
            if due is None:
                self.look()
            else:
                self._send(*due)

    def _send(self, name: str, event: dict[str, Any], tries: int, _at: float) -> None:
        row = self.repository(name)
        said, taken = post_signed(row.address, row.secret, event)
        self.sent.append((event["type"], said))
        if not taken and tries < MOST_TRIES:
            with self._news:
                wait = min(LONGEST_WAIT, 0.25 * 2 ** min(tries, 6))
                self._queue.append((name, event, tries + 1, time.monotonic() + wait))

    def end(self) -> None:
        self._ended.set()
        with self._news:
            self._news.notify_all()


def post_signed(address: str, secret: str, event: dict[str, Any]) -> tuple[str, bool]:
    """Send an event; what was answered, and whether that settles it (a refusal does)."""
    body = json.dumps(event).encode()
    signature = hmac.new(secret.encode(), body, hashlib.sha256).hexdigest()
    headers = {"Content-Type": "application/cloudevents+json", "X-Myriant-Signature": f"sha256={signature}"}
    try:
        with urllib.request.urlopen(urllib.request.Request(address, body, headers), timeout=30) as answer:
            return f"{answer.status} {answer.read(500).decode('utf-8', 'replace')}", True
    except urllib.error.HTTPError as error:
        said = error.read(500).decode("utf-8", "replace")
        return f"{error.code} {said}", 400 <= error.code < 500 and error.code not in (408, 425, 429)
    except OSError as error:
        return f"it could not be reached: {error}", False
