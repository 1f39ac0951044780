"""`python -m tests.bench [NAME…]`: all measures, or those named."""

from __future__ import annotations

import importlib
import sys

NAMES = (
    "plans",
    "push",
    "orchestration",
    "ingest",
    "store",
    "grouping",
    "attribution",
    "diagnosed",
    "strip",
    "logs",
    "claims",
    "caches",
    "faults",
    "queries",
    "trends",
    "outcomes",
    "badges",
    "coverage",
    "coverage_screens",
    "reading",
    "streams",
    "seams",
)

if __name__ == "__main__":
    for name in sys.argv[1:] or NAMES:
        importlib.import_module(f"tests.bench.{name}").measure()
