"""docs/threat-model.md lists what is tried: its tables are made from the rows of the tests beside this one."""

from __future__ import annotations

import os
import re
from pathlib import Path

from test_commits import ATTACKS
from test_requests import REQUESTS

DOCS = Path(__file__).parents[2] / "docs/threat-model.md"


def table(heads: tuple[str, ...], rows: list[tuple[str, ...]]) -> str:
    lines = [heads, tuple("---" for _ in heads), *rows]
    return "\n".join("| " + " | ".join(cell.replace("|", "\\|") for cell in line) + " |" for line in lines)


def filled(text: str, mark: str, content: str) -> str:
    return re.sub(
        rf"(<!-- {mark} -->\n).*?(<!-- end -->)", lambda m: f"{m[1]}{content}\n{m[2]}", text, count=1, flags=re.DOTALL
    )


def test_the_tables_are_those_of_the_tests() -> None:
    text = DOCS.read_text()
    commits = [(a.name, a.answer, f"{a.verdict}{'; ' + a.said if a.said else ''}") for a in ATTACKS]
    requests = [
        (name, " or ".join(str(s) if s else "closed" for s in sorted(answers))) for name, _, _, answers in REQUESTS
    ]
    text = filled(text, "commits", table(("Tried, by `tests/adversary/test_commits.py`", "Answered", "Seen"), commits))
    text = filled(text, "requests", table(("Sent, by `tests/adversary/test_requests.py`", "Answer"), requests))
    if os.environ.get("MYRIANT_WRITE"):
        DOCS.write_text(text)
    assert DOCS.read_text() == text
