"""Tests as people name them."""

from __future__ import annotations


def test_title(suite: str, klass: str, name: str) -> str:
    """A test as people name it: its class, or its suite where there is none, and its name."""
    return f"{klass or suite} › {name}" if klass or suite else name
