"""Tells the processes of a test run which test goes on, and keeps what each test took: `-p reached_tests`."""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
import sitecustomize

FOLDER = Path(os.environ["MYRIANT_REACHED"])
for folder in (FOLDER, FOLDER / "code"):  # server and worker may be users of their own
    folder.mkdir(exist_ok=True)
    folder.chmod(0o777)
WORKER = os.environ.get("PYTEST_XDIST_WORKER", "main")


@pytest.hookimpl(hookwrapper=True)
def pytest_runtest_protocol(item: pytest.Item) -> Iterator[None]:
    now = FOLDER / f"now-{WORKER}"
    now.with_suffix(".new").write_text(item.nodeid)
    now.with_suffix(".new").rename(now)
    began = time.monotonic()
    yield
    sitecustomize.notes.note()  # what this process reached itself: many tests end within a look
    with (FOLDER / f"tests-{WORKER}").open("a") as file:
        file.write(f"{item.nodeid}\t{time.monotonic() - began:.2f}\n")
