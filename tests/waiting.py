"""Waiting for a state. The bound ends a test that hangs; how fast anything is says nothing here."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TypeVar

T = TypeVar("T")


def until(ask: Callable[[], T], holds: Callable[[T], object] = bool, within: float = 180) -> T:
    """What is answered, once it holds."""
    end = time.monotonic() + within
    while not holds(found := ask()):
        assert time.monotonic() < end, f"it did not come about: {found!r}"
        time.sleep(0.1)
    return found
