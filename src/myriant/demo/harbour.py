"""The demo's pull requests on the stand-in host, which lets nobody merge what is held, and its shelf. Over HTTP only."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from pathlib import Path

import httpx
from tenacity import retry, retry_if_exception_type, stop_after_delay, wait_fixed

from myriant.demo.people import CASPER, MARISOL, TOBIAS, YUKI, Author
from myriant.demo.scenario import BREAK, clone_of, commit, git
from myriant.flow.admin.projects import Change, change_project, project_names
from myriant.flow.admin.secrets import set_secret
from myriant.flow.admin.ways import WayWish, set_way, ways
from myriant.flow.intake.told import event_secret
from myriant.flow.site import Site
from myriant.flow.who import Person

REPOSITORY = "lockstep"
_BY = Person(0, "the demo", "maintainer")
_OUTCOME = {
    "commit": "{commit}",
    "state": "{state}",
    "sentence": "{sentence}",
    "address": "{address}",
    "base": "{base}",
}


@dataclass(frozen=True, slots=True)
class Asked:
    """A pull request of the demo."""

    author: Author
    branch: str
    title: str
    change: Callable[[Path], None]
    fork: str = ""  # of somebody who may not write


def _queue(tree: Path) -> None:
    (tree / "docs").mkdir(exist_ok=True)
    (tree / "docs/draught.md").write_text(
        "# Queue by draught\n\nDeep boats wait at the outer wall.\n", encoding="utf-8"
    )


def _toll(tree: Path) -> None:
    (tree / "docs").mkdir(exist_ok=True)
    (tree / "docs/toll.md").write_text("# The toll book\n\nOne line a boat, in ink.\n", encoding="utf-8")


def _fathoms(tree: Path) -> None:
    (tree / "docs").mkdir(exist_ok=True)
    (tree / "docs/fathoms.md").write_text("# Fathoms\n\nA fathom is six feet.\n", encoding="utf-8")


CHANGES = (
    Asked(TOBIAS, "ruler-in-one-go", "Draw the ruler in one go", BREAK.apply),
    Asked(MARISOL, "queue-by-draught", "Queue by draught", _queue),
    Asked(YUKI, "longer-toll-book", "A longer toll book", _toll),
    Asked(CASPER, "fathoms", "Write the levels in fathoms", _fathoms, fork="lockstep-casper"),
)


def open_harbour(site: Site, folder: Path, address: str, say: Callable[[str], None]) -> None:
    """Let the stand-in host serve the demo's repository, with pull requests whose outcomes it is told. Once."""
    if REPOSITORY not in project_names(site) or any(w.name == "harbour" for w in ways(site, REPOSITORY)):
        return
    _wait_for(address)
    token = json.loads((folder / "host.json").read_text(encoding="utf-8"))["token"]
    with httpx.Client(base_url=address, headers={"Authorization": f"Bearer {token}"}, trust_env=False) as host:
        _put(host, "POST", "/api/repositories", {"name": REPOSITORY})
        _put(host, "PUT", f"/api/{REPOSITORY}/rules", {"required": ["myriant into main"], "strict": True})
        told = {
            "address": f"{site.address}/api/v1/events?project={REPOSITORY}",
            "secret": event_secret(site, REPOSITORY),
        }
        _put(host, "PUT", f"/api/{REPOSITORY}/events", told)
        refs = Change(pull_refs="refs/changes/*/head", pull_strangers=True)
        change_project(site, REPOSITORY, refs, _BY)
        _tell_the_host(site, address, token)
        for number, asked in enumerate(CHANGES, 1):
            _ask(host, folder, asked)
            say(f"loading the demo: pull request {number} of {len(CHANGES)}")


def open_shelf(site: Site, folder: Path, address: str) -> None:
    """Let the demo's releases be brought to the stand-in shelf; its address and token are secrets of the project."""
    if REPOSITORY in project_names(site):
        _wait_for(address)
        set_secret(site, REPOSITORY, "SHELF", address, _BY)
        set_secret(site, REPOSITORY, "SHELF_TOKEN", (folder / "shelf/token").read_text(encoding="utf-8"), _BY)


def _tell_the_host(site: Site, address: str, token: str) -> None:
    set_secret(site, REPOSITORY, "HARBOUR_TOKEN", token, _BY)
    headers = {"Authorization": "Bearer {secret:HARBOUR_TOKEN}"}
    pulls, at = ("pull-request",), f"{address}/api/{REPOSITORY}"
    wishes = {
        "harbour": WayWish(
            always=True,
            events=pulls,
            url=f"{at}/outcomes",
            headers=headers,
            body=json.dumps({**_OUTCOME, "context": "myriant into {branch}"}),
        ),
        "harbour-pushes": WayWish(
            always=True,
            events=("push",),
            url=f"{at}/outcomes",
            headers=headers,
            body=json.dumps({**_OUTCOME, "context": "{context}"}),
        ),
        "harbour-text": WayWish(
            always=True,
            events=pulls,
            url=f"{at}/changes/{{pull_request}}/text",
            method="PUT",
            headers=headers,
            body=json.dumps({"text": "{text}"}),
        ),
    }
    for name, wish in wishes.items():
        set_way(site, REPOSITORY, name, wish, _BY)


def _ask(host: httpx.Client, folder: Path, asked: Asked) -> None:
    tree = clone_of(folder, REPOSITORY)
    git(tree, "checkout", "--quiet", "-B", asked.branch, "origin/main")
    asked.change(tree)
    commit(tree, asked.author, asked.title)
    if asked.fork:
        _put(host, "POST", "/api/repositories", {"name": asked.fork, "fork_of": REPOSITORY})
    origin = asked.fork or REPOSITORY
    git(tree, "push", "--quiet", str(folder / f"{origin}.git"), f"HEAD:refs/heads/{asked.branch}")
    git(tree, "checkout", "--quiet", "main")
    _put(
        host,
        "POST",
        f"/api/{REPOSITORY}/changes",
        {
            "title": asked.title,
            "author": asked.author.name,
            "source": asked.branch,
            "origin": origin,
            "may_write": not asked.fork,
        },
    )


@retry(
    retry=retry_if_exception_type(httpx.TransportError), stop=stop_after_delay(30), wait=wait_fixed(0.1), reraise=True
)
def _wait_for(address: str) -> None:
    httpx.get(f"{address}/", trust_env=False).raise_for_status()


def _put(host: httpx.Client, method: str, path: str, body: Mapping[str, object]) -> None:
    host.request(method, path, json=body).raise_for_status()
