"""What the documentation points at is there."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]
PAGES = [ROOT / "README.md", ROOT / "CHANGELOG.md", *sorted((ROOT / "docs").rglob("*.md"))]


@pytest.mark.parametrize("page", PAGES, ids=[str(p.relative_to(ROOT)) for p in PAGES])
def test_every_link_and_picture_is_there(page: Path) -> None:
    targets = re.findall(r"\]\(([^)\s#]+)(?:#[^)]*)?\)", re.sub(r"```.*?```|`[^`]*`", "", page.read_text(), flags=re.S))
    missing = [t for t in targets if "://" not in t and not (page.parent / t).exists()]
    assert missing == []


def test_what_make_bench_measures_is_there() -> None:
    folder = ROOT / "tests/bench"
    listed = re.findall(r'^    "(\w+)",$', (folder / "__main__.py").read_text(), flags=re.M)
    takes_nothing = {
        p.stem
        for p in folder.glob("*.py")
        if re.search(r"^def measure\((\)|\w+: (?:[^,=\[]|\[[^]]*\])+ = )", p.read_text(), re.M)
    }
    assert len(listed) > 20 and set(listed) <= takes_nothing


def test_every_picture_is_shown_and_they_are_few() -> None:
    shown = set(re.findall(r"docs/screenshots/([\w-]+\.png)", (ROOT / "README.md").read_text()))
    kept = {p.name for p in (ROOT / "docs/screenshots").iterdir()}
    assert shown == kept and len(kept) < 20
