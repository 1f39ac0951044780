"""Reading what is hostile or huge: a file of 1 GB, one message of 100 MB, and fuzzing of each reader."""

from __future__ import annotations

import random
import resource
import subprocess
import sys
import textwrap
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from tests.bench.measure import report

from myriant.core.coverage.read import read_coverage
from myriant.core.results.junit import read_junit
from myriant.core.results.sarif import read_sarif
from myriant.core.results.tap import read_tap

PRODUCERS = Path(__file__).parents[1] / "data/producers"
SECONDS = 30.0  # of fuzzing each reader
TOKENS = [
    b"<",
    b">",
    b"/>",
    b"&",
    b"]]>",
    b"<![CDATA[",
    b"\0",
    b"\x1b[31m",
    b"\xff",
    b"<testcase ",
    b'name="',
    b"not ok 1",
    b"1..2",
    b"    ",
    b"---\n",
    b"...\n",
    b"# SKIP",
    b"{",
    b"}",
    b"[",
    b'"',
    b"null",
    b"-1",
    b"1e999",
    b"NaN",
    b"<!ENTITY a 'b'>",
    b"\xef\xbb\xbf",
]

_READ_LARGE = """
    from myriant.core.results.junit import read_junit
    def chunks():
        yield b'<testsuite>'
        text = b'x' * 1000 + b'\\n'
        for n in range({cases}):
            yield b'<testcase classname="c" name="t%d" time="0.1"><system-out>' % n + text * 200 + b'</system-out></testcase>'
        yield b'</testsuite>'
    results = read_junit(chunks())
    assert results.error is None and len(results) == {cases}, results.problems
    print(next(int(line.split()[1]) / 1024 for line in open("/proc/self/status") if line.startswith("VmHWM")))
"""


def measure() -> None:
    begun = time.perf_counter()
    program = textwrap.dedent(_READ_LARGE.format(cases=5000))
    memory = float(subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True).stdout)
    report("a report of 1 GB: time", [time.perf_counter() - begun], "s")
    report("a report of 1 GB: memory of the reading process", [memory], "MB", limit=200)
    for where, head, tail in (("text", b"<failure>", b"</failure>"), ("an attribute", b'<failure message="', b'"/>')):
        data = b'<testsuite><testcase name="a">' + head + b"m" * (100 << 20) + tail + b"</testcase></testsuite>"
        begun = time.perf_counter()
        results = read_junit(data[i : i + (1 << 18)] for i in range(0, len(data), 1 << 18))
        assert results.error is None and len(results) == 1
        report(f"a message of 100 MB in {where}", [time.perf_counter() - begun], "s")
    million = b"<testsuite>" + b'<testcase name="same"/>' * 1_000_000 + b"</testsuite>"
    begun = time.perf_counter()
    assert len(read_junit([million])) == 1_000_000
    report("a million cases of one name", [time.perf_counter() - begun], "s")
    readers: dict[str, tuple[Callable[[list[bytes]], object], str]] = {
        "JUnit XML": (read_junit, "*.xml"),
        "TAP": (read_tap, "*.tap"),
        "SARIF": (read_sarif, "*.sarif"),
        "coverage": (read_coverage, "*.xml"),
    }
    for name, (read, files) in readers.items():
        corpus = [p.read_bytes() for p in sorted(PRODUCERS.glob(files))]
        rng, count, slowest, end = random.Random(1), 0, 0.0, time.monotonic() + SECONDS
        while time.monotonic() < end:
            data = _mutated(rng, corpus)
            begun = time.perf_counter()
            read(list(_pieces(rng, data)))
            slowest = max(slowest, time.perf_counter() - begun)
            count += 1
        report(f"fuzzing {name}: files without an exception", [float(count)], "files", seconds=SECONDS)
        report(f"fuzzing {name}: slowest file", [slowest], "s")
    report("fuzzing: memory at most", [resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024], "MB")


def _mutated(rng: random.Random, corpus: list[bytes]) -> bytes:
    """A file of the corpus, cut, spliced with another, with bytes changed and tokens put in."""
    data = bytearray(rng.choice(corpus))
    for _ in range(rng.randrange(1, 12)):
        at = rng.randrange(len(data) + 1)
        match rng.randrange(6):
            case 0:
                del data[at:]
            case 1:
                del data[at : at + rng.randrange(200)]
            case 2:
                data[at:at] = rng.choice(TOKENS) * rng.choice((1, 1, 2, 300))
            case 3:
                other = rng.choice(corpus)
                data[at:] = other[rng.randrange(len(other)) :]
            case 4:
                data[at:at] = rng.randbytes(rng.randrange(1, 9))
            case _:
                data[at:at] = data[max(0, at - rng.randrange(400)) : at] * rng.choice((1, 1, 40))
        if not data:
            break
    return bytes(data[:400_000])


def _pieces(rng: random.Random, data: bytes) -> Iterator[bytes]:
    at = 0
    while at < len(data):
        size = rng.choice((1, 7, 100, 4096, 1 << 16))
        yield data[at : at + size]
        at += size
