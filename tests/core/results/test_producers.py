"""Files that real producers wrote are read exactly; docs/producers.md is the table of them (MYRIANT_WRITE=1 writes it)."""

from __future__ import annotations

import os
import tomllib
from pathlib import Path

import pytest

from myriant.core.results.model import Outcome
from myriant.core.results.read import format_of, read_results
from myriant.core.results.sarif import read_sarif

ROOT = Path(__file__).parents[3]
FOLDER = ROOT / "tests/data/producers"
COUNTS = tomllib.loads((FOLDER / "counts.toml").read_text())
DOC = ROOT / "docs/producers.md"
KEYS = ("total", "passed", "failed", "errored", "skipped", "setups")


@pytest.mark.parametrize("name", COUNTS)
def test_a_producer_s_file_is_read_exactly(name: str) -> None:
    data, expected = (FOLDER / name).read_bytes(), COUNTS[name]
    pieces = [data[at : at + 777] for at in range(0, len(data), 777)]
    if format_of(data) == "sarif":
        analysis = read_sarif(pieces, ("/home/ada/tidebook",))
        assert analysis.error is None and len(analysis.results) == expected["results"]
        assert all(r.rule and r.message and r.path and r.line for r in analysis.results)
        return
    form, results = read_results(pieces)
    assert form == {"xml": "junit", "tap": "tap"}[name.rpartition(".")[2]] and results.error is None, results.problems
    counts = [results.count(o) for o in (Outcome.PASSED, Outcome.FAILED, Outcome.ERRORED, Outcome.SKIPPED)]
    assert [len(results), *counts, results.setups] == [expected[k] for k in KEYS]
    for at, outcome in enumerate(results.outcomes):
        if outcome in (Outcome.FAILED, Outcome.ERRORED):
            assert results.details[at].message, f"{results.names[at]} does not say why"


def test_every_file_is_in_the_table_and_the_table_in_the_docs() -> None:
    assert sorted(COUNTS) == sorted(p.name for p in FOLDER.iterdir() if p.suffix != ".toml")
    rows = [
        f"| {name} | {c['printed']} | {c.get('total', '')} | {c.get('passed', '')} | {c.get('failed', '')} "
        f"| {c.get('errored', '')} | {c.get('skipped', c.get('results', ''))} | {c.get('oddity', '')} |".replace(
            " | failed", ", failed"
        )
        for name, c in ((n, {k: str(v).replace("|", "/") for k, v in c.items()}) for n, c in COUNTS.items())
    ]
    text = (
        "# Reports of real producers\n\nEach file under tests/data/producers was written by really running the producer on a "
        "small suite with passing,\nfailing, erroring and skipped tests; *printed* is what it said of the same run. For SARIF the last "
        "number counts results.\n\n| file | printed | cases | passed | failed | errored | skipped | where the two differ |\n"
        "|---|---|---|---|---|---|---|---|\n" + "\n".join(rows) + "\n"
    )
    if os.environ.get("MYRIANT_WRITE"):
        DOC.write_text(text)
    assert DOC.read_text() == text, "MYRIANT_WRITE=1 writes it anew"
