"""Waiting for a process goes on as long as that gets on, and no longer."""

from __future__ import annotations

import subprocess
import time

import pytest

from myriant.cli.progress import processor_seconds, while_it_gets_on


@pytest.mark.parametrize(("does", "given_up"), [("while :; do :; done", False), ("sleep 600", True)])
def test_what_works_is_waited_for_and_what_does_nothing_is_given_up(does: str, given_up: bool) -> None:
    process = subprocess.Popen(["/bin/sh", "-c", does], start_new_session=True)
    try:
        enough = time.monotonic() + 120  # beyond its patience on any machine; the one that works ends it before

        def goes_on() -> bool:
            return time.monotonic() < enough and processor_seconds(process.pid) < 3

        ended = all(goes_on() for _ in while_it_gets_on(lambda: process.pid, 2))
        assert ended == given_up
    finally:
        process.kill()
        process.wait()
