"""From a tag to the shelf, by browser: trial first, a person's word, proof that the very bytes arrived, and back again."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest
from playwright.sync_api import Browser, Page, expect

from browsing import axe, browser, signed_in
from harbour import Harbour
from myriant.cli.database import free_port
from myriant.demo.scenario import RELEASED, TOOL
from waiting import until
from worlds import Repository, World, junit, one_installation

PLAN = f"""version = 1
[jobs.unit]
[[jobs.unit.steps]]
command = "mkdir -p out; cp report.xml out/"
collect = {{ tests = ["out/report.xml"] }}
{RELEASED}"""


@pytest.fixture(scope="module")
def shelves(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Harbour, Harbour]]:
    """A shelf that keeps what it is given, and one that keeps other bytes."""
    made = [
        Harbour(tmp_path_factory.mktemp("shelf"), free_port(), kind="shelf", more=more) for more in ((), ("--lies",))
    ]
    for shelf in made:
        shelf.begin()
    yield made[0], made[1]
    for shelf in made:
        shelf.end()


@pytest.fixture(scope="module")
def port(shelves: tuple[Harbour, Harbour]) -> Iterator[World]:
    """An installation whose steps may reach the shelves, and nothing else of this machine."""
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("MYRIANT_REACHABLE", ",".join(f"127.0.0.1:{s.port}" for s in shelves))
        with one_installation("myriant-releases-") as world:
            yield world


def on_the_shelf(shelf: Harbour, section: str = "harbour") -> tuple[str, list[str]]:
    """What is in use, and the versions that lie there."""
    told = httpx.get(f"{shelf.address}/{section}/lockstep", trust_env=False).json()
    return told["in_use"], sorted(told["versions"])


def tagged(repo: Repository, version: str, report: str, tag: str = "") -> dict[str, Any]:
    """Push a version with its tag; the tag's run once it is decided."""
    notes = f"# Changes\n\n## {version}\n"
    files = {"VERSION": f"{version}\n", "CHANGES.md": notes, "report.xml": report, "lockstep/gate.lua": f"-- {version}"}
    commit = repo.commit({"myriant.toml": PLAN, "tools/shelf": TOOL, **files}, f"Cut {version}")
    name = tag or f"v{version}"
    repo.git("tag", name)
    repo.git("push", "origin", "HEAD:refs/heads/main", name)
    context = f"tag {name}"

    def decided() -> Any:
        said = [w for w in repo.world.contexts(commit, repo.name) if w["context"] == context and w["final"]]
        return said and said[0]["verdict"] != "undecided" and said

    number = until(decided)[0]["run"]
    view: dict[str, Any] = repo.world.get(f"/projects/{repo.name}/runs/{number}")
    return view


def approve(page: Page, world: World, version: str, reason: str) -> None:
    """Give a card's approval, on the page of its run."""
    page.goto(f"{world.address}/p/locks/releases")
    card = page.get_by_role("region", name=f"Release {version}")
    card.get_by_role("link", name="give or refuse it").click()
    page.get_by_label("Why, for shelf").fill(reason)
    page.get_by_role("button", name="Approve").click()
    expect(page.get_by_text("shelf: approval given by admin")).to_be_visible()
    page.goto(f"{world.address}/p/locks/releases")


def test_from_a_tag_to_proof_that_it_arrived_and_back_again(
    browser: Browser,
    port: World,
    shelves: tuple[Harbour, Harbour],
) -> None:
    shelf, liar = shelves
    repo = port.repository("locks", None)
    for name, value in (("SHELF", shelf.address), ("SHELF_TOKEN", shelf.token)):
        assert port.http.put(f"/projects/locks/secrets/{name}", json={"value": value}).is_success
    passes = junit(rises="passed")
    with signed_in(browser, port, ("status of 404", "status of 409")) as page:
        # trial first, then a person's word, then the real one; each proves what arrived
        first = tagged(repo, "0.1.0", passes)
        page.goto(f"{port.address}/p/locks/releases")
        card = page.get_by_role("region", name="Release v0.1.0")
        expect(card.get_by_text("The trial shelf is live")).to_be_visible()
        expect(card.get_by_text("found there by its digest: dist/lockstep-0.1.0.tar")).to_be_visible()
        assert on_the_shelf(shelf, "trial") == ("0.1.0", ["0.1.0"]) and on_the_shelf(shelf) == ("", [])
        approve(page, port, "v0.1.0", "seen on the trial shelf")
        expect(card.get_by_text("found there by its digest: dist/lockstep-0.1.0.tar")).to_have_count(2)
        expect(card.get_by_text("approved by admin: “seen on the trial shelf”")).to_be_visible()
        assert on_the_shelf(shelf) == ("0.1.0", ["0.1.0"]) and axe(page) == []
        there = httpx.get(f"{shelf.address}/harbour/lockstep", trust_env=False).json()["versions"]["0.1.0"]
        cards = port.get("/projects/locks/releases")["cards"]
        assert [m["digest"] for m in cards[0]["made"]] == list(there.values()) and first["run"]["verdict"] == "clear"

        # a tag that disagrees with what the tree says, and one whose run is held, publish nothing
        odd = tagged(repo, "0.1.1", passes, tag="v9.9.9")
        page.goto(f"{port.address}/p/locks/runs/{odd['run']['number']}")
        expect(page.get_by_text("the tag v9.9.9 does not equal 0.1.1 in VERSION").first).to_be_visible()
        held = tagged(repo, "0.2.0", junit(rises="stuck at the sill"))
        assert held["run"]["verdict"] == "held"
        page.goto(f"{port.address}/p/locks/releases")
        expect(
            page.get_by_role("region", name="Release v0.2.0").get_by_text("trial did not pass").first
        ).to_be_visible()
        assert on_the_shelf(shelf) == ("0.1.0", ["0.1.0"]) and on_the_shelf(shelf, "trial")[1] == ["0.1.0"]

        # the next one goes out, and the older one is brought back by its card, with a word of its own
        tagged(repo, "0.3.0", passes)
        page.reload()
        expect(page.get_by_role("region", name="Release v0.3.0").get_by_text("The trial shelf is live")).to_be_visible()
        approve(page, port, "v0.3.0", "so")
        until(lambda: on_the_shelf(shelf)[0] == "0.3.0")
        expect(
            page.get_by_role("region", name="Release v0.3.0").get_by_text("The harbour shelf is live")
        ).to_be_visible()
        old = page.get_by_role("region", name="Release v0.1.0")
        old.get_by_role("listitem").filter(has_text="The harbour shelf").get_by_role(
            "button", name="Bring it back"
        ).click()
        expect(old.get_by_role("link", name="give or refuse it")).to_be_visible()
        approve(page, port, "v0.1.0", "0.3.0 drifts")
        expect(old.get_by_text("The harbour shelf is live")).to_be_visible()
        assert on_the_shelf(shelf) == ("0.1.0", ["0.1.0", "0.3.0"])

        # a shelf that keeps other bytes than it says is found out on the trial, and nothing goes further
        port.http.put("/projects/locks/secrets/SHELF", json={"value": liar.address})
        port.http.put("/projects/locks/secrets/SHELF_TOKEN", json={"value": liar.token})
        tagged(repo, "0.4.0", passes)
        page.reload()
        lied = page.get_by_role("region", name="Release v0.4.0")
        expect(lied.get_by_text("not found there: dist/lockstep-0.4.0.tar")).to_be_visible()
        expect(lied.get_by_text("trial did not pass").first).to_be_visible()
        assert on_the_shelf(liar) == ("", []) and on_the_shelf(shelf)[0] == "0.1.0"


def test_steps_reach_the_ports_that_are_named_and_no_other_of_the_machine(
    port: World, shelves: tuple[Harbour, Harbour], tmp_path: Path
) -> None:
    beside = Harbour(tmp_path, free_port(), kind="shelf")
    beside.begin()
    named = shelves[0].port
    step = "; ".join(
        f"(exec 3<>/dev/tcp/127.0.0.1/{p}) 2>/dev/null && echo reaches {p} || echo no way to {p}"
        for p in (named, beside.port, port.installation.port, port.installation.database.port)
    )
    plan = f"""version = 1
[jobs.look]
[[jobs.look.steps]]
shell = "bash"
command = "{step}"
"""
    try:
        run = port.repository("looks", None).pushed({"myriant.toml": plan})
        log = port.http.get(f"/attempts/{run['cells'][0]['attempt_id']}/log/raw").text
    finally:
        beside.end()
    assert f"reaches {named}\n" in log and log.count("no way to") == 3, log
