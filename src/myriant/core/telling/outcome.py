"""An outcome as text: Markdown that reads well as plain text, at most a screen of it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from myriant.core.written import counted

MOST_FINDINGS = 8
_SPEAKING = re.compile(r"[\\`*\[\]<>#|]|(?<![^\W_])_|_(?![^\W_])")  # an underscore within a word says nothing


@dataclass(frozen=True, slots=True)
class Told:
    """What is told of one cause: its title, where it shows, and the first line of what it said."""

    title: str
    where: str
    message: str


def outcome_text(
    sentence: str,
    *,
    findings: Sequence[Told] = (),
    more: int = 0,
    uncovered: Sequence[str] = (),
    lines: Sequence[str] = (),
) -> str:
    """Sentence, causes with cells and first lines, changed lines not covered, and one line for each number."""
    parts = [sentence.strip()]
    if findings:
        rows = [
            f"- {as_one_line(f.title, 160)} ({as_one_line(f.where, 80)}): {as_one_line(f.message, 160)}"
            for f in findings[:MOST_FINDINGS]
        ]
        left = more + max(0, len(findings) - MOST_FINDINGS)
        parts.append("\n".join([*rows, *([f"- and {counted(left, 'more cause')}"] if left else [])]))
    if uncovered:
        named = ", ".join(as_one_line(u, 120) for u in uncovered[:5])
        parts.append(f"Changed lines that nothing ran: {named}{' …' if len(uncovered) > 5 else ''}")
    if lines:
        parts.append("\n".join(as_one_line(line, 200) for line in lines))
    return "\n\n".join(parts) + "\n"


def as_one_line(text: str, most: int) -> str:
    """One line, in which Markdown has nothing to say."""
    line = " ".join(text.split())
    line = _SPEAKING.sub(r"\\\g<0>", line)
    return line if len(line) <= most else f"{line[: most - 1]}…"
