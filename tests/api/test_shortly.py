"""Answers that are kept for a moment: given again in that time, made anew after it, never more than so many."""

from __future__ import annotations

from itertools import count

import pytest

from myriant.api import shortly
from myriant.api.shortly import Shortly


def test_what_was_made_is_given_again_for_a_moment_only(monkeypatch: pytest.MonkeyPatch) -> None:
    now, made, kept = [0.0], count(), Shortly(seconds=0.5, most=2)
    monkeypatch.setattr(shortly.time, "monotonic", lambda: now[0])

    def ask(name: str) -> str:
        return kept.get(name, lambda: f"{name}{next(made)}")

    assert [ask("a"), ask("a"), ask("b"), ask("a")] == ["a0", "a0", "b1", "a0"]
    now[0] = 0.49
    assert ask("a") == "a0"
    now[0] = 0.5
    assert [ask("a"), ask("a")] == ["a2", "a2"]
    assert [ask("c"), ask("b"), ask("a")] == ["c3", "b4", "a5"]  # two names are kept, the oldest goes


def test_what_fails_is_not_kept() -> None:
    kept, answers = Shortly(seconds=60, most=2), iter([ValueError("away"), "there"])

    def make() -> str:
        answer = next(answers)
        if isinstance(answer, Exception):
            raise answer
        return answer

    with pytest.raises(ValueError, match="away"):
        kept.get("a", make)
    assert kept.get("a", make) == "there"
