"""The keys of the plan format, table by table; `NOT_YET` are understood by name but not executed yet."""

from __future__ import annotations

KEYS: dict[str, frozenset[str]] = {
    "plan": frozenset({"version", "events", "defaults", "shared", "jobs", "gate", "notify", "coverage"}),
    "events": frozenset({"push", "pull-request", "tag", "schedule"}),
    "push": frozenset({"branches", "touching", "unless-only"}),
    "job": frozenset(
        [
            "title",
            "formerly",
            "when",
            "touching",
            "after",
            "vary",
            "runtime",
            "pin",
            "drop",
            "add",
            "advisory",
            "sample",
            "at-once",
            "stop-early",
            "retry",
            "timeout",
            "env",
            "folder",
            "shell",
            "network",
            "limits",
            "runner",
            "source",
            "settings",
            "describe",
            "cache",
            "secrets",
            "companions",
            "artifacts",
            "hand-over",
            "gated",
            "approval",
            "expect",
            "supersede",
            "steps",
        ]
    ),
    "step": frozenset(
        [
            "name",
            "command",
            "shared",
            "folder",
            "shell",
            "env",
            "secrets",
            "when",
            "always",
            "may-fail",
            "timeout",
            "network",
            "collect",
            "retest",
        ]
    ),
    "collect": frozenset({"kind", "tests", "coverage", "analysis", "attachments", "may-be-empty"}),
    "gate": frozenset({"rules"}),
    "rule": frozenset({"name", "measure", "at-most", "at-least", "level", "jobs", "cells", "folder", "since"}),
}

NOT_YET: dict[str, frozenset[str]] = {
    "plan": frozenset({"defaults", "shared", "notify", "coverage"}),
    "events": frozenset({"pull-request", "tag", "schedule"}),
    "push": frozenset({"touching", "unless-only"}),
    "job": KEYS["job"] - {"title", "vary", "runtime", "drop", "timeout", "env", "steps"},
    "step": KEYS["step"] - {"name", "command", "collect"},
    "collect": frozenset({"analysis", "attachments"}),
    "gate": frozenset(),
    "rule": frozenset({"cells", "folder", "since"}),
}

MEASURES: dict[str, str] = {
    "tests.total": "distinct tests",
    "tests.passed": "tests that passed in every cell that ran them",
    "tests.failed": "tests that failed in some cell",
    "tests.errored": "tests that errored in some cell and failed in none",
    "tests.skipped": "tests that every cell skipped",
    "tests.new": "tests newly failing or errored against the gate baseline",
    "tests.known": "tests that failed at the gate baseline too",
    "tests.vanished": "tests of the gate baseline without a result now",
    "tests.share-passed": "passed ÷ (passed + failed + errored)",
    "results.total": "results: tests × cells",
    "results.failed": "failed results",
    "results.errored": "errored results",
    "results.skipped": "skipped results",
    "coverage.line": "covered ÷ coverable lines, merged over the cells",
}
FRACTIONS = frozenset({"tests.share-passed", "coverage.line"})
