"""Reading and storing a report of 100,000 cases, against the same file through expat with empty Python handlers."""

from __future__ import annotations

import subprocess
import sys
import tempfile
import textwrap
import time
from pathlib import Path
from xml.parsers import expat

import numpy as np
from tests.bench.files import junit_file
from tests.bench.measure import against, report
from tests.bench.place import installed

from myriant.core.results.identity import identities
from myriant.core.results.junit import read_junit
from myriant.core.results.model import Outcome
from myriant.store.results import NotPassed, keep_results, test_numbers
from myriant.store.tables import Attempt, Cell, Project, Run

CASES = 100_000


def bare(data: bytes) -> None:
    parser = expat.ParserCreate()
    parser.buffer_text = True
    parser.StartElementHandler = lambda name, attributes: None
    parser.EndElementHandler = lambda name: None
    parser.CharacterDataHandler = lambda text: None
    for at in range(0, len(data), 1 << 16):
        parser.Parse(data[at : at + (1 << 16)], False)
    parser.Parse(b"", True)


def measure(samples: int = 7) -> None:
    data = junit_file(CASES)
    against(
        "read a report of 100,000 cases", lambda: read_junit([data]), lambda: bare(data), samples=samples, limit=2.2
    )
    with installed() as installation:
        assert installation.site is not None
        store = installation.site.store
        attempts = iter(range(1, 10_000))
        with store.transaction() as session:
            project = Project(name="large", address="/nowhere")
            session.add(project)
            session.flush()
            run = Run(
                project_id=project.id,
                number=1,
                event="push",
                context="push main",
                branch="main",
                commit="0" * 40,
                state="running",
                verdict="undecided",
            )
            session.add(run)
            session.flush()
            for i in range(1, 200):
                cell = Cell(
                    run_id=run.id,
                    job="unit",
                    job_title="unit",
                    position=i,
                    key=f"n={i}",
                    values={},
                    wants=[],
                    state="running",
                )
                session.add(cell)
                session.flush()
                session.add(
                    Attempt(
                        cell_id=cell.id,
                        number=1,
                        state="reading",
                        runner="",
                        lease_digest="",
                        lease_until=run.created_at,
                    )
                )

        def read_and_store() -> None:
            results = read_junit([data])
            tests = identities("unit", results)
            with store.transaction() as session:
                numbers = test_numbers(session, project.id, "unit", tests)
                outcomes = np.frombuffer(bytes(results.outcomes), np.uint8)
                failed = [
                    NotPassed(int(numbers[i]), Outcome(results.outcomes[i]), d.message, d.text, results.seconds[i])
                    for i, d in results.details.items()
                ]
                keep_results(session, next(attempts), numbers, outcomes, np.array(results.seconds), failed)

        begun = time.perf_counter()
        read_and_store()
        report("read and store, when every test is new", [time.perf_counter() - begun], "s")
        against(
            "read and store a report of 100,000 cases", read_and_store, lambda: bare(data), samples=samples, limit=3
        )
    report("memory of a process that reads such a report", [_memory(data) for _ in range(3)], "MB")


def _memory(data: bytes) -> float:
    with tempfile.NamedTemporaryFile(suffix=".xml") as file:
        Path(file.name).write_bytes(data)
        program = textwrap.dedent(
            f"""
            from myriant.core.results.junit import read_junit
            source = open({file.name!r}, "rb")
            read_junit(iter(lambda: source.read(1 << 18), b""))
            print(next(int(line.split()[1]) / 1024 for line in open("/proc/self/status") if line.startswith("VmHWM")))
            """
        )
        return float(subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True).stdout)
