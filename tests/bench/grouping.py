"""Failures of known causes, made with noise: how well they are grouped, and how fast."""

from __future__ import annotations

import time
from collections import defaultdict

from tests.bench.measure import report
from tests.failures import made, scores

from myriant.core.diagnosis.signature import Signature, group, signature_of


def measure() -> None:
    for count, of, seed in ((20_000, 300, 1), (20_000, 300, 2), (20_000, 300, 3), (2_000, 40, 4)):
        truth, failures = made(count, of, seed)
        begun = time.perf_counter()
        signatures: list[Signature] = [signature_of(*f) for f in failures]
        between = time.perf_counter()
        groups = group(signatures)
        ended = time.perf_counter()
        precision, recall = scores(truth, [g.members for g in groups])
        by_cause = defaultdict(set)
        for i, g in enumerate(groups):
            for m in g.members:
                by_cause[truth[m]].add(i)
        name = f"{count:,} failures of {of} causes (seed {seed})"
        report(f"{name}: precision of pairs", [precision], "")
        report(f"{name}: recall of pairs", [recall], "")
        report(f"{name}: groups", [len(groups)], "")
        report(f"{name}: causes that are one group", [sum(len(s) == 1 for s in by_cause.values())], "")
        report(f"{name}: signatures", [between - begun], "s")
        report(f"{name}: grouping", [ended - between], "s")
