"""Coverage of real packages over four versions of Python, counted again by other means.

`python -m tests.bench.recounted FOLDER`, where the folder holds source archives of packages that ship their tests. Each is
pushed, and what the section says is compared with the raw reports, read by ElementTree, and with what `coverage combine`
makes of the very data files of the cells.
"""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
import tempfile
import xml.etree.ElementTree as ET
from pathlib import Path
from typing import Any

from tests.bench.real import PYTHONS, tests_of, unpacked
from tests.conftest import WHEELS, Repository, one_installation

VERSIONS = ("3.9", "3.10", "3.11", "3.12")
PLAN = f"""version = 1
[jobs.unit]
runtime = ["python"]
vary = {{ python = {json.dumps(VERSIONS)} }}
artifacts = [{{ files = ["out/data"] }}]
[[jobs.unit.steps]]
name = "test"
command = "mkdir -p out; export PYTHONPATH=$MYRIANT_SHARED/$MYRIANT_CELL_PYTHON/ready:.; COVERAGE_FILE=out/data python -m coverage run --source=PACKAGE -m pytest -q -p no:cacheprovider --junitxml=out/unit.xml TESTS; s=$?; COVERAGE_FILE=out/data python -m coverage xml -q -o out/coverage.xml; exit $s"
collect = {{ tests = ["out/unit.xml"], coverage = ["out/coverage.xml"] }}
"""
Lines = dict[str, dict[int, bool]]  # by file and line, whether some cell reached it


def from_reports(repo: Repository, view: dict[str, Any]) -> Lines:
    found: Lines = {}
    for cell in view["cells"]:
        for report in repo.world.get(f"/attempts/{cell['attempt_id']}")["reports"]:
            if report["content"] != "coverage":
                continue
            root = ET.fromstring(repo.world.http.get(f"/reports/{report['id']}/raw").content)
            base = (root.findtext("sources/source") or "").removeprefix("/workspace").strip("/")
            for file in root.iter("class"):
                lines = found.setdefault(f"{base}/{file.get('filename')}".strip("/"), {})
                for line in file.findall("lines/line"):
                    number = int(line.get("number", "0"))
                    lines[number] = lines.get(number, False) or int(line.get("hits", "0")) > 0
    return {path: lines for path, lines in found.items() if lines}


def from_combine(repo: Repository, view: dict[str, Any], tree: Path, folder: Path) -> dict[str, set[int]]:
    """The lines that ran, as the producer's own combine command has them."""
    for number, cell in enumerate(view["cells"]):
        report = next(
            r for r in repo.world.get(f"/attempts/{cell['attempt_id']}")["reports"] if r["content"] == "artifact"
        )
        (folder / f".coverage.{number}").write_bytes(repo.world.http.get(f"/reports/{report['id']}/raw").content)
    (folder / ".coveragerc").write_text(f"[paths]\nhere =\n    {tree}\n    /workspace\n")
    python = next(PYTHONS.glob("3.12.*")) / "bin/python"
    environment = {**os.environ, "PYTHONPATH": str(WHEELS / "3.12/ready")}
    subprocess.run([python, "-m", "coverage", "combine", "-q"], cwd=folder, env=environment, check=True)
    read = "import coverage, json; d = coverage.CoverageData(); d.read(); print(json.dumps({f: d.lines(f) for f in d.measured_files()}))"
    done = subprocess.run([python, "-c", read], cwd=folder, env=environment, check=True, capture_output=True, text=True)
    return {f.removeprefix(f"{tree}/"): set(lines) for f, lines in json.loads(done.stdout).items()}


def recount(repo: Repository, archive: Path, folder: Path) -> dict[str, Any]:
    tree = unpacked(archive, folder / "real")
    package = re.sub(r"-[\d.]+\.tar\.gz$", "", archive.name).replace("-", "_")
    for path in tree.rglob("*"):
        if path.is_file() and path.stat().st_size < 1 << 20 and ".git/" not in str(path):
            there = repo.tree / path.relative_to(tree)
            there.parent.mkdir(parents=True, exist_ok=True)
            there.write_bytes(path.read_bytes())
    plan = PLAN.replace("PACKAGE", package).replace("TESTS", tests_of(tree))
    view = repo.pushed({"myriant.toml": plan}, f"Take in {package}")
    said = repo.world.get(f"/projects/{repo.name}/runs/{view['run']['number']}/coverage")
    raw = from_reports(repo, view)
    files = {f["path"]: (f["covered"], f["valid"]) for f in said["files"]}
    counted = {path: (sum(lines.values()), len(lines)) for path, lines in raw.items()}
    combined = from_combine(repo, view, repo.tree, folder)
    apart = [
        p for p, lines in raw.items() if {n for n, ran in lines.items() if ran} != combined.get(p, set()) & set(lines)
    ]
    total = (sum(c for c, _ in counted.values()), sum(v for _, v in counted.values()))
    return {
        "measure": f"coverage of {package} counted again",
        "cells": len(view["cells"]),
        "files": len(counted),
        "lines": total,
        "said": (said["line"]["covered"], said["line"]["valid"]),
        "share": said["line"]["text"],
        "files that differ from the raw reports": sorted(
            p for p in files.keys() | counted.keys() if files.get(p) != counted.get(p)
        ),
        "files that differ from coverage combine": apart,
    }


def main(archives: list[Path]) -> None:
    with one_installation("myriant-recounted-") as world:
        for number, archive in enumerate(archives):
            with tempfile.TemporaryDirectory() as folder:
                repo = world.repository(f"recounted-{number}", None)
                print(json.dumps(recount(repo, archive, Path(folder))), flush=True)


if __name__ == "__main__":
    main(sorted(Path(sys.argv[1]).glob("*.tar.gz"))[: int(sys.argv[2]) if len(sys.argv) > 2 else 2])
