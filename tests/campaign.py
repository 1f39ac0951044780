"""The fault campaign: runs whose outcome is known beforehand, while parts are killed at random moments."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import threading
import time
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path

from sqlalchemy import text

from myriant.cli.up import Installation
from myriant.demo.scenario import git
from myriant.flow.admin.projects import add_project
from myriant.flow.errors import FlowError

VICTIMS = ("runner", "server", "worker", "database")
REPOSITORIES, TESTS = 4, 5
PLAN = """version = 1
[jobs.tides]
vary      = { gauge = ["low", "high"] }
retry     = { void = 5 }
supersede = "never"
[[jobs.tides.steps]]
name    = "test"
command = "sh write.sh"
collect = { tests = ["out/unit.xml"] }
"""
WRITE = """mkdir -p out; sleep 0.$((RANDOM_SEED % 9))
{ echo '<testsuite name="s">'; for i in 1 2 3 4 5; do
  if grep -qx "$MYRIANT_CELL_GAUGE $i" red; then
    echo "<testcase classname=\\"c\\" name=\\"t$i\\"><failure message=\\"water at $i\\"/></testcase>"
  else echo "<testcase classname=\\"c\\" name=\\"t$i\\"/>"; fi
done; echo '</testsuite>'; } > out/unit.xml
echo "wrote $MYRIANT_COMMIT"; ! grep -q "^$MYRIANT_CELL_GAUGE " red
"""


@dataclass
class Tally:
    """What became of the campaign; every count but `runs` and `kills` should be zero."""

    pushes: int = 0
    runs: int = 0  # the others were pushed while no server heard, and came with the next push
    kills: Counter[str] = field(default_factory=Counter)
    undecided: int = 0
    false_clear: int = 0
    false_held: int = 0
    wrong_results: int = 0
    doubled: int = 0
    lost_logs: int = 0
    attempts: int = 0
    void_attempts: int = 0
    seconds: float = 0.0
    told: list[str] = field(default_factory=list)

    @property
    def faults(self) -> int:
        return self.undecided + self.false_clear + self.false_held + self.wrong_results + self.doubled + self.lost_logs


def campaign(
    installation: Installation, folder: Path, runs: int, seed: int, pause: tuple[float, float], longest: float = 240
) -> Tally:
    """Push `runs` commits with a known outcome while parts are killed; what became of them.

    Killing ends when everything is judged, or `longest` seconds after the last push.
    """
    luck = random.Random(seed)
    site = installation.site
    assert site is not None
    expected: dict[str, set[tuple[str, int]]] = {}
    trees = []
    for n in range(REPOSITORIES):
        origin, tree = folder / f"campaign{n}.git", folder / f"campaign{n}"
        git(folder, "init", "--quiet", "--bare", "--initial-branch=main", str(origin))
        git(folder, "clone", "--quiet", str(origin), str(tree))
        git(tree, "checkout", "--quiet", "-B", "main")
        (tree / "myriant.toml").write_text(PLAN)
        add_project(site, str(origin), f"campaign{n}")
        trees.append(tree)
    tally = Tally()
    killing = threading.Event()
    killer = threading.Thread(target=_kill, args=(installation, luck, pause, killing, tally), daemon=True)
    began = time.monotonic()
    for i in range(runs):
        if i == REPOSITORIES:  # a branch's first push that nobody hears is told together with its second, as one
            _heard(installation, len(expected))
            killer.start()
        tree = trees[i % REPOSITORIES]
        red = {(g, t) for g in ("low", "high") for t in range(1, TESTS + 1) if luck.random() < 0.12}
        (tree / "red").write_text("".join(f"{g} {t}\n" for g, t in sorted(red)))
        (tree / "write.sh").write_text(WRITE.replace("RANDOM_SEED", str(i)))
        git(tree, "add", "--all")
        git(tree, "-c", "user.name=Ada Fen", "-c", "user.email=ada@fenmark.example", "commit", "-q", "-m", f"tide {i}")
        # the hook may find the server dead: polling hears of the push all the same
        subprocess.run(["git", "push", "--quiet", "origin", "HEAD:main"], cwd=tree, capture_output=True, check=True)
        expected[git(tree, "rev-parse", "HEAD").strip()] = red
        while _open_cells(installation) > 12:
            time.sleep(0.2)
        if i % REPOSITORIES == 0:
            time.sleep(luck.uniform(0, 1.0))
    _wait(installation, expected, longest)
    killing.set()
    if killer.is_alive():
        killer.join()
    _wait(installation, expected, 240)
    tally.pushes, tally.seconds = runs, time.monotonic() - began
    _compare(installation, expected, tally)
    return tally


def _kill(
    installation: Installation, luck: random.Random, pause: tuple[float, float], done: threading.Event, tally: Tally
) -> None:
    while not done.wait(luck.uniform(*pause)):
        victim = luck.choice(VICTIMS)
        if victim == "database":
            pid = installation.database.pid
        else:
            process = next(p.process for p in installation.parts.parts if p.name == victim)
            pid = process.pid if process is not None and process.poll() is None else 0
        if pid:
            try:
                os.kill(pid, signal.SIGKILL)
                tally.kills[victim] += 1
            except ProcessLookupError:
                continue


def _rows(installation: Installation, query: str) -> list[tuple[object, ...]]:
    site = installation.site
    assert site is not None
    for _ in range(200):
        try:
            with site.store.transaction() as session:
                return [tuple(row) for row in session.execute(text(query))]
        except Exception:  # the database was killed: it is started again
            time.sleep(0.25)
    raise AssertionError("the database did not come back")


def _heard(installation: Installation, pushes: int) -> None:
    """Wait until so many pushes have their run."""
    end = time.monotonic() + 240
    while int(str(_rows(installation, "SELECT count(*) FROM run")[0][0])) < pushes:
        assert time.monotonic() < end, "a push was not heard"
        time.sleep(0.1)


def _open_cells(installation: Installation) -> int:
    return int(str(_rows(installation, "SELECT count(*) FROM cell WHERE state IN ('waiting', 'running')")[0][0]))


def _wait(installation: Installation, expected: dict[str, set[tuple[str, int]]], seconds: float) -> None:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        ended = {str(r[0]) for r in _rows(installation, "SELECT commit_id FROM run WHERE ended_at IS NOT NULL")}
        if set(expected) <= ended | _untested(installation):
            return
        time.sleep(0.5)


def _untested(installation: Installation) -> set[str]:
    """Commits whose push was heard of only together with the next one: they are said to have no run."""
    return {str(r[0]) for r in _rows(installation, "SELECT commit_id FROM untested")}


def _compare(installation: Installation, expected: dict[str, set[tuple[str, int]]], tally: Tally) -> None:
    verdicts = {
        str(commit): (str(verdict), int(str(run)), str(sentence))
        for commit, verdict, run, sentence in _rows(
            installation, "SELECT commit_id, verdict, id, sentence FROM run WHERE ended_at IS NOT NULL ORDER BY id"
        )
    }
    untested = _untested(installation)
    tally.runs = len(verdicts)
    for commit, red in expected.items():
        if commit not in verdicts:
            tally.undecided += commit not in untested
            if commit not in untested:
                tally.told.append(f"{commit} has no verdict")
            continue
        verdict, run, sentence = verdicts[commit]
        known = verdict == "clear" and bool(red)
        found = {
            (str(key).removeprefix("gauge="), int(str(name)[1:]))
            for key, name in _rows(
                installation,
                "SELECT cell.key, test.name FROM cell JOIN failure ON failure.attempt_id = cell.attempt_id "
                "JOIN run ON run.id = cell.run_id JOIN test ON test.number = failure.test "
                f"AND test.project_id = run.project_id WHERE run.id = {run}",
            )
        }
        counts = _rows(installation, f"SELECT key, state, counts->>'total' FROM cell WHERE run_id = {run}")
        wrong = found != red or any(str(total) != str(TESTS) for _, _, total in counts)
        tally.false_clear += known and wrong
        tally.false_held += verdict == "held" and not red
        tally.wrong_results += wrong
        if wrong or (verdict == "held" and not red):
            tally.told.append(
                f"{commit} {verdict}: {sentence}; expected {sorted(red)}, found {sorted(found)}, {counts}"
            )
    tally.doubled = len(
        _rows(installation, "SELECT attempt_id, number FROM segment GROUP BY attempt_id, number HAVING count(*) > 1")
    ) + len(
        _rows(
            installation,
            "SELECT cell_id FROM attempt WHERE state IN ('passed', 'failed') AND number > 0 "
            "GROUP BY cell_id HAVING count(*) > 1",
        )
    )
    tally.attempts = int(str(_rows(installation, "SELECT count(*) FROM attempt WHERE number > 0")[0][0]))
    tally.void_attempts = int(
        str(_rows(installation, "SELECT count(*) FROM attempt WHERE number > 0 AND state = 'void'")[0][0])
    )
    tally.lost_logs = len(
        _rows(
            installation,
            "SELECT id FROM attempt WHERE state IN ('passed', 'failed') AND number > 0 AND log_size <> "
            "(SELECT coalesce(sum(size), 0) FROM log_chunk WHERE attempt_id = attempt.id)",
        )
    )


def tended(installation: Installation) -> threading.Event:
    """Do what `myriant up` does all the time, until the event is set."""
    stopping = threading.Event()

    def tend() -> None:
        while not stopping.wait(0.2):
            try:
                installation.tend()
            except FlowError:
                continue

    threading.Thread(target=tend, daemon=True).start()
    return stopping
