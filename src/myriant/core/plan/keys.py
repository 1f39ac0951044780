"""The plan format's keys, table by table: the one description that the reader, the JSON Schema, the reference
page, completion and hover help are made from.

A kind says what a key takes: `text`, `any` (a text that may be empty), `texts`, `flag`, `whole`, `duration`,
`size`, `globs`, `path`, `name`, `command`, `selector`, `cells`, `vary`, `pin`, `env`, `pairs`, `after`, `limit`,
`zone`, `date`, `each:WORDS` (a list of these words), `one:WORDS` (one of these words), `table:T`, `tables:T` (a list,
or one table alone) and `named:T` (tables by name).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal


@dataclass(frozen=True, slots=True)
class Key:
    """What a key takes, what it means, and how it is written."""

    kind: str
    doc: str
    example: str
    needed: bool = False

    @property
    def of(self) -> str:
        """What follows the colon of the kind: a table's name, or words."""
        return self.kind.partition(":")[2]

    @property
    def base(self) -> str:
        return self.kind.partition(":")[0]

    @property
    def words(self) -> list[str]:
        return self.of.split("|")


_STEP_COMMON = {
    "folder": Key("path", "The folder, relative to the workspace, where commands run.", '"server"'),
    "shell": Key("one:sh|bash", 'What runs a command: "sh" (/bin/sh -e) or "bash" (with pipefail).', '"bash"'),
    "env": Key("env", "Variables that the commands see.", '{ TZ = "UTC" }'),
    "secrets": Key("texts", "Names of stored secrets, given as variables.", '["TIDE_API_KEY"]'),
    "timeout": Key("duration", "When it is ended: a number and s, min, h or days.", '"20 min"'),
    "network": Key("flag", "false takes the network away.", "false"),
}

BUILT_IN = {
    "void": "every result can be trusted.",
    "failed-steps": "every step ended well.",
    "new-failures": "no new failures.",
    "vanished": "no test vanished while its source still stands.",
    "newly-skipped": "no test that passed is skipped now.",
    "loosened": "the plan asks no less than before.",
}
TABLES: dict[str, dict[str, Key]] = {
    "plan": {
        "version": Key("whole", "The version of the format: 1.", "1", needed=True),
        "events": Key(
            "table:events", "What starts a run. Left out: every push to any branch, and every pull request.", ""
        ),
        "defaults": Key("table:job", "Keys that every job inherits: tables by key, lists replaced.", ""),
        "shared": Key("named:shared", "Common beginnings: lists of steps, written once and named by steps.", ""),
        "jobs": Key("named:job", "The jobs, by their ids.", "", needed=True),
        "gate": Key("table:gate", "The rules that a run must meet. Left out: no new failures, nothing void.", ""),
        "coverage": Key("table:coverage", "How paths in coverage reports are read.", ""),
        "notify": Key("table:notify", "Who is told what; as the plan on the main branch says.", ""),
    },
    "events": {
        "push": Key("table:push", "Pushes to branches.", '{ branches = ["main"] }'),
        "pull-request": Key("table:pull-request", "Pull requests opened and updated.", '{ into = ["main"] }'),
        "tag": Key("table:tag", "Tags that are pushed.", '{ names = ["v*"] }'),
        "schedule": Key("tables:schedule", "Times at which a branch's head is tested.", ""),
    },
    "push": {
        "branches": Key("texts", "Globs of branch names; left out: every branch.", '["main", "season/*"]'),
        "touching": Key("globs", "Runs only if a changed file matches.", '["src/**"]'),
        "unless-only": Key("globs", "Does not run if only such files changed: the commit is exempt.", '["docs/**"]'),
    },
    "pull-request": {
        "into": Key("texts", "Globs of target branches; left out: every branch.", '["main"]'),
        "touching": Key("globs", "Runs only if a changed file matches.", '["src/**"]'),
        "unless-only": Key("globs", "Does not run if only such files changed: the head is exempt.", '["docs/**"]'),
    },
    "tag": {
        "names": Key("texts", "Globs of tag names; left out: every tag.", '["v*"]'),
    },
    "schedule": {
        "name": Key("name", "Its name, of the context of its runs.", '"nightly"', needed=True),
        "every": Key(
            "one:hour|day|weekday|monday|tuesday|wednesday|thursday|friday|saturday|sunday",
            "How often, with at.",
            '"day"',
        ),
        "at": Key("text", "The time of day as HH:MM; for hour, the minute as :MM.", '"02:20"'),
        "cron": Key(
            "text",
            "Instead of every and at: minute, hour, day of month, month and day of week.",
            '"20 2 * * *"',
        ),
        "zone": Key("zone", "The time zone of at or cron; UTC when left out.", '"Europe/Oslo"'),
        "branch": Key("text", "The branch whose head is tested; the project's main branch when left out.", '"main"'),
        "jobs": Key("texts", "Only these jobs; left out: all that are no housekeeping.", '["sweep"]'),
    },
    "shared": {
        "steps": Key("tables:step", "Its steps. They cannot name other shared steps.", "", needed=True),
    },
    "job": {
        "told": Key(
            "each:event|branch|tag|pull-request|commit",
            "What of the event and its commit the steps may see; without it the same content gives the same answer.",
            '["branch"]',
        ),
        "title": Key("text", "What people read; the id stays the same when it changes.", '"Unit tests"'),
        "formerly": Key("texts", "Earlier ids of this job, so that its history goes on.", '["tests"]'),
        "when": Key("selector", "The events and cells for which it runs.", '[{ event = "pull-request" }]'),
        "touching": Key("globs", "Runs only if a changed file matches.", '["server/**"]'),
        "after": Key("after", "Jobs whose cells must pass first.", '["unit", { job = "style", even-if = "failed" }]'),
        "vary": Key("vary", "The dimensions and their values: each combination is a cell.", '{ python = ["3.12"] }'),
        "runtime": Key("texts", "Which dimensions or pins choose an installed runtime.", '["python"]'),
        "pin": Key("pin", "One runtime without a dimension.", '{ python = "3.12" }'),
        "drop": Key("selector", "Combinations that are taken out.", '[{ python = "3.8", rounding = "bankers" }]'),
        "add": Key("cells", "Cells beside the combinations.", '[{ python = "3.14", rounding = "nearest" }]'),
        "advisory": Key("selector", "Cells that inform but cannot hold a run.", '[{ python = ">= 3.14" }]'),
        "sample": Key("table:sample", "A chosen subset that still covers every t-way combination.", "{ strength = 2 }"),
        "at-once": Key("whole", "How many of its cells of one run may run side by side.", "4"),
        "stop-early": Key("flag", "true stops its waiting cells once one that is not advisory failed.", "true"),
        "retry": Key("table:retry", "How often failed tests and void attempts are tried again.", "{ void = 2 }"),
        "timeout": Key("duration", 'The time of one attempt; "20 min" when left out.', '"20 min"'),
        "env": _STEP_COMMON["env"],
        "folder": _STEP_COMMON["folder"],
        "shell": _STEP_COMMON["shell"],
        "network": _STEP_COMMON["network"],
        "limits": Key("table:limits", "What an attempt may take.", '{ memory = "2 GiB" }'),
        "runner": Key("texts", "Labels that the runner must have.", '["linux"]'),
        "source": Key("table:source", "What of the repository is fetched.", '{ history = "full" }'),
        "settings": Key(
            "table:settings", "A file of settings that is copied into place and compared.", '{ file = ".env.ci" }'
        ),
        "describe": Key("texts", "Commands whose output goes into the environment record.", '["cc --version"]'),
        "cache": Key("tables:cache", "Files kept between attempts.", ""),
        "secrets": _STEP_COMMON["secrets"],
        "companions": Key("named:companion", "Processes beside the steps: a database, a server.", ""),
        "artifacts": Key("tables:artifact", "Files kept from an attempt.", ""),
        "hand-over": Key(
            "pairs",
            "Files given to later jobs, by name: found there under $MYRIANT_FROM/JOB/.",
            '{ wheel = "dist/*.whl" }',
        ),
        "takes": Key(
            "tables:take",
            "Artifacts of another project's newest clear run: found under $MYRIANT_FROM/PROJECT/JOB/.",
            '[{ project = "lockstep", files = ["dist/*.tar"] }]',
        ),
        "housekeeping": Key(
            "flag", "true makes it no test: only schedules that name it run it, and no verdict depends on it.", "true"
        ),
        "gated": Key("flag", "true starts it when the verdict is clear; it cannot change the verdict.", "true"),
        "approval": Key("table:approval", "Whose word it waits for.", '{ by = ["release"], within = "2 days" }'),
        "expect": Key("table:expect", "What must hold of a tag before it starts.", '{ mentioned-in = "CHANGELOG.md" }'),
        "supersede": Key(
            "one:waiting|running|never",
            'Which older cells a newer event of the same context stops: "waiting" (pull requests: "running").',
            '"waiting"',
        ),
        "steps": Key("tables:step", "Its steps, one after another.", "", needed=True),
    },
    "sample": {
        "strength": Key("whole", "2 covers every pair of values, 3 every triple, 4 every four.", "2", needed=True),
        "events": Key("each:push|pull-request|tag|schedule|manual", "For these events; left out: all.", '["push"]'),
    },
    "retry": {
        "tests": Key("whole", "How often failed tests are run again, 0 to 5.", "1"),
        "void": Key("whole", "How often a cell whose runner was lost is tried again, 0 to 5.", "2"),
    },
    "limits": {
        "memory": Key("size", "Memory of all its processes.", '"2 GiB"'),
        "processes": Key("whole", "How many processes at once.", "512"),
        "disk": Key("size", "What it may write.", '"4 GiB"'),
        "output": Key("size", "How much of its output is kept.", '"64 MiB"'),
    },
    "source": {
        "history": Key("one:commit|full", 'How much history: "commit" (only it) or "full".', '"full"'),
        "tags": Key("flag", "true fetches the tags.", "true"),
        "submodules": Key("flag", "true fetches submodules.", "true"),
    },
    "settings": {
        "example": Key("path", "A file that names every setting; each must have a value.", '".env.example"'),
        "file": Key("path", "The file with the values.", '".env.ci"', needed=True),
        "to": Key("path", "Where it is copied to.", '".env"'),
    },
    "cache": {
        "name": Key("name", "Its name.", '"packages"', needed=True),
        "keep": Key("globs", "What is kept.", '[".venv"]', needed=True),
        "renew-on": Key("globs", "Files whose content renews it.", '["requirements*.txt"]', needed=True),
    },
    "companion": {
        "command": Key("command", "What starts it.", '"./scripts/start-database"', needed=True),
        "folder": _STEP_COMMON["folder"],
        "env": _STEP_COMMON["env"],
        "port": Key("whole", "The port it listens on, given as MYRIANT_NAME_PORT.", "5432"),
        "ready": Key("table:ready", "How one knows that it is ready.", '{ tcp = true, within = "30 s" }', needed=True),
    },
    "ready": {
        "tcp": Key("flag", "Its port takes a connection.", "true"),
        "http": Key("text", "This path answers with a status under 400.", '"/health"'),
        "line": Key("text", "A line of its log holds this.", '"ready to accept"'),
        "command": Key("command", "This command ends with 0.", '"./scripts/ready"'),
        "within": Key("duration", 'How long it may take; "30 s" when left out.', '"30 s"'),
    },
    "artifact": {
        "files": Key("globs", "Which files.", '["dist/**"]', needed=True),
        "keep": Key("duration", "How long they are kept.", '"14 days"'),
        "offer": Key("flag", "true lets jobs of other projects take them from a clear run.", "true"),
    },
    "take": {
        "project": Key("text", "Whose artifacts they are; its plan offers them.", '"lockstep"', needed=True),
        "files": Key("globs", "Which of them; each glob must find one.", '["dist/*.tar"]', needed=True),
        "job": Key("text", "The job that made them; left out: any.", '"archive"'),
        "tag": Key("text", "Of the newest clear run of such a tag; left out: of the main branch.", '"v*"'),
    },
    "approval": {
        "by": Key("texts", "Roles or names of people, one of whom must give it.", '["release"]', needed=True),
        "within": Key("duration", 'How long it waits; "7 days" when left out.', '"2 days"'),
    },
    "expect": {
        "tag-equals": Key(
            "table:tag-equals",
            "The tag, without a leading v, equals a value in a file.",
            '{ file = "pyproject.toml", key = "project.version" }',
        ),
        "mentioned-in": Key("path", "This file mentions the tag, without its leading v.", '"CHANGELOG.md"'),
    },
    "tag-equals": {
        "file": Key("path", "The file that declares it; without a key all of it.", '"pyproject.toml"', needed=True),
        "key": Key(
            "text",
            "Its path in TOML, JSON, XML or INI, with dots; in any other file what it is assigned to.",
            '"project.version"',
        ),
    },
    "step": {
        "name": Key("text", "What people read.", '"test"'),
        "command": Key("command", "A text for the shell, or a list that is run without one.", '"make test"'),
        "shared": Key("text", "Instead of a command: the shared steps of this name stand here.", '"python"'),
        **_STEP_COMMON,
        "when": Key("selector", "The cells and events for which it runs.", '[{ python = "3.12" }]'),
        "always": Key("flag", "true runs it also after a step that failed.", "true"),
        "may-fail": Key("flag", "true records its failure and goes on.", "true"),
        "collect": Key("tables:collect", "What it wrote: results, coverage, analysis, attachments.", ""),
        "retest": Key("table:retest", "How failed tests alone are run again.", ""),
        "proves": Key(
            "globs",
            "Artifacts of the run that this step must find where they were brought: it prints the SHA-256 of each.",
            '["dist/*.whl"]',
        ),
    },
    "collect": {
        "kind": Key("name", 'The kind of tests; "unit" when left out.', '"integration"'),
        "tests": Key("globs", "JUnit XML files.", '["out/unit.xml"]'),
        "coverage": Key("globs", "Cobertura, Clover, JaCoCo or LCOV files.", '["out/coverage.xml"]'),
        "analysis": Key("globs", "SARIF files.", '["out/style.sarif"]'),
        "attachments": Key("globs", "Other files to keep with the results.", '["out/*.png"]'),
        "may-be-empty": Key("flag", "true allows no file and no test.", "true"),
    },
    "retest": {
        "command": Key("command", "The command; $MYRIANT_RETEST is a file with one failed test a line.", '"./again"'),
        "each": Key(
            "text", "How a test is written in that file: {file}, {class}, {name}, {suite}.", '"{file}::{name}"'
        ),
    },
    "coverage": {
        "root": Key("path", "The folder that paths in reports are relative to.", '"src"'),
        "exclude": Key("globs", "Files that do not count.", '["tests/**"]'),
        "map": Key("tables:map", "Beginnings of paths that are replaced.", '[{ from = "/build/", to = "" }]'),
    },
    "map": {
        "from": Key("text", "What a path begins with.", '"/build/src/"', needed=True),
        "to": Key("any", "What stands there instead; may be empty.", '"src/"', needed=True),
    },
    "gate": {
        "rules": Key("tables:rule", "Measures with limits, beside the built-in rules.", ""),
        **{name: Key("one:block|warn", f"Built in: {said}", '"warn"') for name, said in BUILT_IN.items()},
    },
    "rule": {
        "name": Key("text", "What people read.", '"no new failures"'),
        "measure": Key("text", "What is measured.", '"tests.new"', needed=True),
        "at-most": Key("limit", 'The most it may be: a number, "baseline" or "best of 20".', "0"),
        "at-least": Key(
            "limit",
            'The least it may be: a number, "baseline" (never lower) or "best of 20" (of the last baselines).',
            "0.80",
        ),
        "level": Key("one:block|warn", '"block" holds the run, "warn" only says so.', '"warn"'),
        "jobs": Key("texts", "Only these jobs.", '["unit"]'),
        "cells": Key("selector", "Only these cells.", '[{ python = "3.12" }]'),
        "kinds": Key("texts", "Only tests of these kinds.", '["integration"]'),
        "folder": Key("path", "Only files of this folder (coverage).", '"src/locks"'),
        "since": Key("date", "Holds from this day on.", "2026-11-01"),
        "after-runs": Key(
            "whole", "Only warns until it was judged in so many runs of the main branch, or of its own.", "10"
        ),
    },
    "notify": {
        "mail": Key("table:mail", "Mails.", '{ to = ["committers"], at = ["held"] }'),
        "webhook": Key("tables:webhook", "Messages sent over HTTP.", ""),
        "owner": Key("tables:owner", "Whose files and tests are whose; the last that fits counts.", ""),
    },
    "owner": {
        "of": Key("globs", "Paths, or tests as suite/class/name.", '["src/locks/**"]', needed=True),
        "who": Key("texts", "Addresses.", '["ada@tidewater.example"]', needed=True),
    },
    "mail": {
        "to": Key("texts", '"committers", "owners" or addresses.', '["committers"]', needed=True),
        "at": Key(
            "each:held|cleared|released|attention|always", "At which moments.", '["held", "cleared"]', needed=True
        ),
    },
    "webhook": {
        "url-secret": Key("text", "The secret that holds the address.", '"CHAT_HOOK"', needed=True),
        "at": Key("each:held|cleared|released|attention|always", "At which moments.", '["held"]', needed=True),
    },
    "after": {
        "job": Key("text", "The job's id.", '"unit"', needed=True),
        "even-if": Key("one:failed", '"failed": it need not have passed, only ended.', '"failed"'),
    },
}
TABLES["defaults"] = {k: v for k, v in TABLES["job"].items() if k not in ("steps", "formerly", "title")}
TABLES["plan"]["defaults"] = Key("table:defaults", TABLES["plan"]["defaults"].doc, "")
KEYS: dict[str, frozenset[str]] = {kind: frozenset(keys) for kind, keys in TABLES.items()}

MEASURES: dict[str, str] = {
    "tests.total": "distinct tests",
    "tests.passed": "tests that passed in every cell that ran them",
    "tests.failed": "tests that failed in some cell",
    "tests.errored": "tests that errored in some cell and failed in none",
    "tests.skipped": "tests that every cell skipped",
    "tests.new": "tests newly failing or errored against the gate baseline",
    "tests.known": "tests that failed at the gate baseline too",
    "tests.quarantined": "tests that failed and are quarantined",
    "tests.flaky": "tests that failed and then passed when they were run again",
    "tests.vanished": "tests of the gate baseline without a result now, whose source still stands",
    "tests.removed": "tests of the gate baseline without a result now, whose source is gone",
    "tests.newly-skipped": "tests that passed at the gate baseline and are skipped now",
    "plan.loosened": "what the plan asks less than the gate baseline's",
    "tests.share-passed": "passed ÷ (passed + failed + errored)",
    "results.total": "results: tests × cells",
    "results.failed": "failed results",
    "results.errored": "errored results",
    "results.skipped": "skipped results",
    "results.quarantined": "results that failed and are quarantined",
    "results.flaky": "results that failed and then passed when they were run again",
    "coverage.line": "covered ÷ coverable lines, merged over the cells",
    "coverage.branch": "taken ÷ all branches that reports know, merged over the cells",
    "coverage.function": "functions that were run ÷ all that reports know, merged over the cells",
    "coverage.changed": "covered ÷ coverable lines among those that the change added or modified",
    "coverage.change": "line coverage less that of the gate baseline: -0.005 is half a point less",
    "coverage.lost": "lines that did not change, were covered at the gate baseline and are no more",
    "seconds.total": "seconds that the newest attempts of all cells took together",
    "seconds.slower": "tests that take longer than at the gate baseline in every cell, beyond noise",
    "artifacts.bytes": "bytes of the artifacts that the cells left",
    "analysis.new": "results of static analysis that the gate baseline has not",
    "analysis.total": "results of static analysis that are not suppressed",
    "analysis.errors": "those of them that are errors",
    "analysis.new-errors": "errors of static analysis that the gate baseline has not",
}
SHARES: dict[str, Literal["lines", "branches", "functions"]] = {
    "coverage.line": "lines",
    "coverage.branch": "branches",
    "coverage.function": "functions",
}
FRACTIONS = frozenset({"tests.share-passed", "coverage.changed", *SHARES})
OF_CHANGE = frozenset(
    {"coverage.changed", "coverage.change", "coverage.lost", "analysis.new", "analysis.new-errors", "seconds.slower"}
)  # with no baseline
MOST_BEST = 100  # baselines that a limit may look back over
EVENT_KEYS = ("event", "branch", "from", "tag", "job")
EVENTS = ("push", "pull-request", "tag", "schedule", "manual", "upload")
