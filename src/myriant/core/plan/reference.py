"""The JSON Schema and the reference page of the plan format, made from its description."""

from __future__ import annotations

from typing import Any

from myriant.core.plan.keys import EVENT_KEYS, MEASURES, TABLES, Key

SCHEMA_PATH = "/schema/plan-1.json"
_NAME = "^[a-z][a-z0-9-]*$"
_TEXT = {"type": "string", "minLength": 1}
_TEXTS = {"type": "array", "items": _TEXT}
_DURATION = {"type": "string", "pattern": r"^\s*\d+(\.\d+)?\s*(s|min|h|days?)\s*$"}
_CONDITION = {"anyOf": [_TEXT, {"type": "array", "items": _TEXT, "minItems": 1}]}
_ALTERNATIVE = {"type": "object", "additionalProperties": _CONDITION, "minProperties": 1}
_COMMAND = {"anyOf": [_TEXT, {"type": "array", "items": _TEXT, "minItems": 1}]}
_ENV = {
    "type": "object",
    "additionalProperties": {"type": "string"},
    "propertyNames": {"pattern": "^[A-Za-z_][A-Za-z0-9_]*$"},
}
_SIMPLE: dict[str, dict[str, Any]] = {
    "text": _TEXT,
    "any": {"type": "string"},
    "texts": _TEXTS,
    "flag": {"type": "boolean"},
    "whole": {"type": "integer", "minimum": 0},
    "duration": _DURATION,
    "size": {"type": "string", "pattern": r"^\s*\d+(\.\d+)?\s*(B|kB|MB|GB|KiB|MiB|GiB|TiB)\s*$"},
    "globs": _TEXTS,
    "path": _TEXT,
    "name": {"type": "string", "pattern": _NAME, "maxLength": 60},
    "command": _COMMAND,
    "selector": {"anyOf": [_ALTERNATIVE, {"type": "array", "items": _ALTERNATIVE}]},
    "cells": {"type": "array", "items": {"type": "object", "additionalProperties": _TEXT}},
    "vary": {
        "type": "object",
        "additionalProperties": {**_TEXTS, "minItems": 1, "uniqueItems": True},
        "propertyNames": {"pattern": _NAME},
    },
    "pin": {"type": "object", "additionalProperties": _TEXT, "propertyNames": {"pattern": _NAME}},
    "env": _ENV,
    "pairs": {"type": "object", "additionalProperties": _TEXT, "propertyNames": {"pattern": _NAME}},
    "after": {"type": "array", "items": {"anyOf": [_TEXT, {"$ref": "#/$defs/after"}]}},
    "limit": {
        "anyOf": [{"type": "number"}, {"const": "baseline"}, {"type": "string", "pattern": "^best of [1-9]\\d*$"}]
    },
    "zone": _TEXT,
    "date": {},  # a TOML date has no counterpart in JSON
}
_WORDS = {
    "text": "text",
    "any": "text",
    "texts": "list of texts",
    "flag": "true or false",
    "whole": "whole number",
    "duration": "duration",
    "size": "size",
    "globs": "list of globs",
    "path": "path",
    "name": "name",
    "command": "text, or list of texts",
    "selector": "selector",
    "cells": "list of cells",
    "vary": "lists of texts by dimension",
    "pin": "versions by runtime",
    "env": "texts by variable",
    "pairs": "globs by name",
    "after": "list of jobs",
    "limit": 'number, "baseline" or "best of 20"',
    "zone": "time zone",
    "date": "date",
}


def schema() -> dict[str, Any]:
    """The format as a JSON Schema (2020-12) for editors."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$id": SCHEMA_PATH,
        "title": "Test plan (myriant.toml), version 1",
        **_table("plan"),
        "$defs": {kind: _table(kind) for kind in TABLES if kind != "plan"},
    }


def _table(kind: str) -> dict[str, Any]:
    keys = TABLES[kind]
    table: dict[str, Any] = {
        "type": "object",
        "additionalProperties": False,
        "properties": {name: {"description": key.doc, **_kind(name, key)} for name, key in keys.items()},
    }
    needed = [name for name, key in keys.items() if key.needed]
    return {**table, "required": needed} if needed else table


def _kind(name: str, key: Key) -> dict[str, Any]:
    ref = {"$ref": f"#/$defs/{key.of}"}
    match key.base:
        case "table":
            return ref
        case "tables":
            return {"anyOf": [{"type": "array", "items": ref}, ref]}
        case "named":
            return {"type": "object", "additionalProperties": ref, "propertyNames": {"pattern": _NAME}}
        case "one":
            return {"enum": key.words}
        case "each":
            return {"type": "array", "items": {"enum": key.words}}
        case _ if name == "version":
            return {"const": 1}
        case _ if name == "measure":
            return {"enum": list(MEASURES)}
        case base:
            return _SIMPLE[base]


_TITLES = {
    "plan": "The plan",
    "events": "`[events]`",
    "push": "`events.push`",
    "pull-request": "`events.pull-request`",
    "tag": "`events.tag`",
    "schedule": "`[[events.schedule]]`",
    "shared": "`[shared.NAME]`",
    "job": "`[jobs.ID]`",
    "sample": "`sample`",
    "retry": "`retry`",
    "limits": "`limits`",
    "source": "`source`",
    "settings": "`settings`",
    "cache": "`cache`",
    "companion": "`[jobs.ID.companions.NAME]`",
    "ready": "`ready`",
    "artifact": "`artifacts`",
    "take": "`takes`",
    "approval": "`approval`",
    "expect": "`expect`",
    "tag-equals": "`expect.tag-equals`",
    "step": "`[[jobs.ID.steps]]`",
    "collect": "`collect`",
    "retest": "`retest`",
    "coverage": "`[coverage]`",
    "map": "`coverage.map`",
    "gate": "`[gate]`",
    "rule": "`[[gate.rules]]`",
    "notify": "`[notify]`",
    "mail": "`notify.mail`",
    "webhook": "`notify.webhook`",
    "owner": "`[[notify.owner]]`",
    "after": "`after`",
}


def reference() -> str:
    """The reference page: every table with every key."""
    lines = [
        "# Every key of a test plan",
        "",
        "Made from the description that also reads plans; the same as a JSON Schema: `myriant plan schema`. What plans",
        "mean is told in [plan.md](plan.md), what is said of wrong ones in [plan-problems.md](plan-problems.md).",
        "",
    ]
    for kind, title in _TITLES.items():
        lines += [f"## {title}", "", "| key | takes | meaning | example |", "|---|---|---|---|"]
        for name, key in TABLES[kind].items():
            doc = key.doc + (" **Needed.**" if key.needed else "")
            example = f"`{key.example}`" if key.example else ""
            lines.append(f"| `{name}` | {takes(key)} | {doc} | {example} |".replace("|HH", "HH"))
        lines.append("")
    lines += ["## Measures", "", "| measure | meaning |", "|---|---|"]
    lines += [f"| `{name}` | {doc} |" for name, doc in MEASURES.items()]
    lines += ["", f"Selectors may ask for dimensions and for {', '.join(EVENT_KEYS)}.", ""]
    return "\n".join(lines)


def takes(key: Key) -> str:
    """What a key takes, in words."""
    match key.base:
        case "table":
            return "table"
        case "tables":
            return "list of tables"
        case "named":
            return "tables by name"
        case "one":
            return ", ".join(f'"{w}"' for w in key.words)
        case "each":
            return "list of " + ", ".join(f'"{w}"' for w in key.words)
        case base:
            return _WORDS[base]
