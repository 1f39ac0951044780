"""Three faults that lie over one another in each of some real packages: what is said of each finding, held to the truth.

`python -m tests.bench.overlapped FOLDER`, with source archives as in tests.bench.real. Each package is broken twice:
`hand` has a fault of all versions, one of a single version and one of the older ones; `random` draws the conditions.
The second and third fault are noticed by a test that notices an earlier one. They come among six commits that are
pushed together. The truth is made by running the package's own tests with each fault alone, under each version.
"""

from __future__ import annotations

import itertools
import json
import random
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import sqlalchemy as sa
from tests.bench.real import PLAN, VERSIONS, Fault, faults, is_text, ran, tests_of, unpacked

from myriant.core.plan.selectors import parse_selector
from worlds import Repository, one_installation

BY_HAND = ("", "__import__('sys').version_info[:2] == (3, 10)", "__import__('sys').version_info < (3, 11)")
MOST_DRAWN = 25
Test = tuple[str, str]  # class name and name, as the report has them
Pairs = set[tuple[Test, str]]  # with the version


@dataclass(frozen=True, slots=True)
class Known:
    """A fault with what it alone makes fail."""

    fault: Fault
    pairs: Pairs
    commit: str = ""
    place: int = 0  # among the commits that are pushed


def alone(tree: Path, fault: Fault) -> Pairs:
    """The tests that fail with one fault, by version."""
    file, found = tree / fault.file, set()
    text = file.read_text()
    file.write_text(fault.text)
    try:
        for version in VERSIONS:
            report = Path(tempfile.mkdtemp()) / "unit.xml"
            ran(tree, version, f"--junitxml={report}")
            for case in ElementTree.parse(report).iter("testcase") if report.is_file() else ():
                if case.find("failure") is not None or case.find("error") is not None:
                    found.add(((case.get("classname", ""), case.get("name", "")), version))
    finally:
        file.write_text(text)
    return found


def drawn(tree: Path, rng: random.Random, conditions: Sequence[str | None]) -> list[Known]:
    """Faults of which each shares a test with an earlier one; fewer where none is found."""
    found: list[Known] = []
    for condition in conditions:
        for fault in _near(tree, rng, condition, found[0].fault.file if found else ""):
            known = Known(fault, alone(tree, fault))
            tests = {t for t, _ in known.pairs}
            apart = all(
                k.fault.file != fault.file or fault.end <= k.fault.begin or k.fault.end <= fault.begin for k in found
            )
            if tests and apart and (not found or any(tests & {t for t, _ in k.pairs} for k in found)):
                found.append(known)
                break
    return found


def _near(tree: Path, rng: random.Random, condition: str | None, file: str) -> Iterator[Fault]:
    """Faults of a file, then of all, so many of each."""
    for only in dict.fromkeys((file, "")):
        yield from itertools.islice(faults(tree, rng, condition, only), MOST_DRAWN)


def broken(text: str, given: Sequence[Fault]) -> str:
    """A file with several faults at once."""
    for fault in sorted(given, key=lambda f: -f.begin):
        text = text[: fault.begin] + fault.written + text[fault.end :]
    return text


def pushed(repo: Repository, files: Mapping[str, str], known: Sequence[Known], rng: random.Random) -> list[Known]:
    """Six commits, three of them with a fault more; the faults with theirs, in the order of the commits."""
    places = sorted(rng.sample(range(6), len(known)))
    order = dict(zip(places, rng.sample(list(known), len(known)), strict=True))
    others = [f for f in files if f.endswith(".py") and f not in {k.fault.file for k in known} and "setup" not in f]
    there: list[Fault] = []
    told = []
    for at in range(6):
        if at in order:
            there.append(order[at].fault)
            file = order[at].fault.file
            text = broken(files[file], [f for f in there if f.file == file])
            commit = repo.commit({file: text}, f"Tidy {file}")
            told.append(replace(order[at], commit=commit, place=at))
        else:
            other = rng.choice(others)
            repo.commit({other: f"{files[other].rstrip()}\n# {rng.random()}\n"}, f"Note in {other}")
    repo.push()
    return told


def judged(repo: Repository, run: dict[str, Any], known: Sequence[Known]) -> list[tuple[str, str]]:
    """Of each finding what is right, wrong or withheld; and of each fault how many findings are of it."""
    end = time.monotonic() + 240
    while time.monotonic() < end:
        found = [f for f in repo.findings(run)["findings"] if f["mark"] in ("new", "first")]
        if found and all(f["control"] not in (None, "unsure") for f in found):
            break
        time.sleep(1)
    said, of = [], Counter[str]()
    for finding in found:
        pairs = pairs_of(repo, finding)
        causes = [k for k in known if len(pairs & k.pairs) >= 0.9 * len(pairs)]
        of.update(k.commit for k in causes[:1])
        said.append(("one cause", "right" if causes else "wrong"))
        said += [(what, held) for what, held in of_finding(repo, run, finding, pairs, causes, known)]
    said += [("findings of a fault", {0: "none", 1: "right"}.get(of[k.commit], "several")) for k in known]
    return said


def pairs_of(repo: Repository, finding: dict[str, Any]) -> Pairs:
    """Tests and versions in which a finding shows."""
    query = sa.text(
        "SELECT class, name FROM failure JOIN test ON number = failure.test AND project_id = "
        "(SELECT id FROM project WHERE name = :name) WHERE attempt_id = :attempt AND test = ANY(:tests)"
    )
    found: Pairs = set()
    with repo.world.site.store.view() as session:
        for cell in finding["cells"]:
            tests = {"name": repo.name, "attempt": cell["attempt_id"], "tests": [t["test"] for t in finding["tests"]]}
            rows = session.execute(query, tests)
            found |= {((klass, name), cell["key"].partition("=")[2]) for klass, name in rows}
    return found


def of_finding(
    repo: Repository,
    run: dict[str, Any],
    finding: dict[str, Any],
    pairs: Pairs,
    causes: Sequence[Known],
    known: Sequence[Known],
) -> Iterator[tuple[str, str]]:
    """What is said of one finding: its condition, the change as cause, the commit first, the commit of a search."""
    tests = {t for t, _ in pairs}
    true = [{v for t, v in k.pairs if t in tests} for k in causes]
    if finding["where"] is not None and finding["where_sure"] and not finding["missed"]:
        selectors = [parse_selector(w) for w in (finding["where"], finding["or_where"]) if w]
        holds = {v for v in VERSIONS if any(s.holds({"python": v}) for s in selectors)}
        yield "condition", "right" if holds in true else "wrong"
    else:
        yield "condition", "right" if set(VERSIONS) in true and finding["where"] is None else "withheld"
    yield "control", {"change": "right", "world": "wrong", "chance": "wrong"}.get(finding["control"], "withheld")
    path = f"/projects/{repo.name}/runs/{run['run']['number']}/tests/{finding['tests'][0]['test']}"
    changes = repo.world.get(f"{path}/changes", finding=finding["id"])
    first = next((c["commit"] for c in changes["commits"] if c["because"]), None)
    mine = {k.commit for k in causes}
    yield "commit first", "withheld" if first is None else "right" if first in mine else "wrong"
    begun = repo.world.http.post(f"{path}/search", params={"finding": finding["id"]})
    if not begun.is_success:
        yield "search", "withheld"
        return
    end, told = time.monotonic() + 400, begun.json()
    while told["state"] == "running" and time.monotonic() < end:
        time.sleep(1)
        told = repo.world.get(f"{path}/search", finding=finding["id"])
    version = told["key"].partition("=")[2]
    [title] = [t["title"] for t in finding["tests"][:1]]
    fails = [k for k in known if any(name in title and v == version for (_, name), v in k.pairs)]
    began = min(fails, key=lambda k: k.place, default=None)  # the first commit on which it fails there
    answer = (told["answer"] or {}).get("commit")
    yield "search", "withheld" if answer is None else "right" if began and answer == began.commit else "wrong"


def measure(folder: str, seed: int = 31) -> None:
    rng = random.Random(seed)
    total: Counter[tuple[str, str]] = Counter()
    with one_installation("myriant-overlapped-") as world:
        for archive in sorted(Path(folder).glob("*.tar.gz")):
            tree = unpacked(archive, Path(tempfile.mkdtemp(prefix="overlapped-")))
            files = {str(p.relative_to(tree)): p.read_text() for p in tree.rglob("*") if p.is_file() and is_text(p)}
            name = archive.name.rpartition("-")[0]
            for how, conditions in (("hand", BY_HAND), ("random", (None,) * 3)):
                known = drawn(tree, rng, conditions)
                repo = world.repository(f"{name}-{how}".replace("_", "-"), None)
                repo.pushed({**files, "myriant.toml": PLAN.replace("TESTS", tests_of(tree))}, "Begin", within=600)
                told = pushed(repo, files, known, rng)
                run = repo.run_of(repo.git("rev-parse", "HEAD").strip(), within=600)
                said = Counter(judged(repo, run, told))
                total += said
                faults_told = [(k.fault.file, k.fault.line, k.fault.versions, len(k.pairs)) for k in told]
                print(
                    json.dumps(
                        {
                            "measure": "overlapped",
                            "package": name,
                            "how": how,
                            "faults": faults_told,
                            "said": _listed(said),
                        }
                    ),
                    flush=True,
                )
    print(json.dumps({"measure": "overlapped", "said": _listed(total)}), flush=True)


def _listed(said: Mapping[tuple[str, str], int]) -> dict[str, dict[str, int]]:
    found: dict[str, dict[str, int]] = {}
    for (what, held), times in sorted(said.items()):
        found.setdefault(what, {})[held] = times
    return found


if __name__ == "__main__":
    measure(sys.argv[1])
