"""Chromium for tests of the real interface."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from weakref import WeakKeyDictionary

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, expect, sync_playwright

from chromium import FLAGS
from worlds import World

expect.set_options(timeout=60_000)  # a state is waited for; how long it takes says how busy the machine is
_signed_in: WeakKeyDictionary[Browser, dict[str, BrowserContext]] = WeakKeyDictionary()
AXE = Path(__file__).parents[1] / "web/node_modules/axe-core/axe.min.js"


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        yield playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)


@contextmanager
def signed_in(browser: Browser, world: World, expected: tuple[str, ...] = ("status of 404",)) -> Iterator[Page]:
    """A page of somebody who is signed in; errors on its console that are not expected fail the test.

    One person's browser for all tests of a module: what it has loaded once it need not load and compile again.
    """
    there = _signed_in.setdefault(browser, {}).get(world.address)
    context = there or browser.new_context(viewport={"width": 1280, "height": 800})
    found = context.new_page()
    problems: list[str] = []
    found.on("pageerror", lambda error: problems.append(str(error)))
    found.on(
        "console",
        lambda said: (
            problems.append(said.text) if said.type == "error" and not any(e in said.text for e in expected) else None
        ),
    )
    if not there:
        found.goto(world.http.post("/sign-in-links", json={}).json()["link"])
        found.wait_for_url(world.address + "/")
        _signed_in[browser][world.address] = context
    yield found
    if found.url.startswith(world.address):
        found.evaluate("localStorage.clear()")  # the next test has nothing of what this one has chosen
    found.close()
    assert not problems, problems


@pytest.fixture
def page(browser: Browser, world: World) -> Iterator[Page]:
    with signed_in(browser, world, ("status of 404", "status of 422", "status of 409")) as found:
        yield found


def axe(page: Page) -> list[str]:
    """Violations that axe finds on the page, each with the elements concerned."""
    if not page.evaluate("'axe' in window"):
        page.evaluate(AXE.read_text())
    found = page.evaluate("async () => (await axe.run(document, {runOnly: ['wcag2a', 'wcag2aa']})).violations")
    return [f"{v['id']}: {[n['html'][:140] for n in v['nodes'][:3]]}" for v in found]
