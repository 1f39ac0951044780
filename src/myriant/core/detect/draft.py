"""A plan that is being drafted from what a repository shows."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field

from myriant.core.detect.repository import Evidence
from myriant.core.plan.reporting import quoted
from myriant.core.plan.versions import version_key

_VERSION = re.compile(r"\d+(?:\.\d+)?")
_KNOWN = {
    "python": ["3.9", "3.10", "3.11", "3.12", "3.13"],
    "node": ["20", "22", "24"],
    "lua": ["5.1", "5.2", "5.3", "5.4"],
    "java": ["11", "17", "21"],
    "ruby": ["3.2", "3.3", "3.4"],
    "php": ["8.1", "8.2", "8.3"],
    "go": ["1.22", "1.23"],
    "perl": ["5.36"],
    "rust": ["1.80"],
    "dotnet": ["8.0"],
}


@dataclass(frozen=True, slots=True)
class Proposal:
    """A plan that would fit; `guesses` are what a person should look at, each with the line where it stands."""

    family: str
    title: str
    text: str
    evidence: tuple[Evidence, ...]
    guesses: tuple[str, ...]


@dataclass(slots=True)
class Draft:
    """A plan in the making."""

    family: str
    title: str
    job: str = "unit"
    job_title: str = "Unit tests"
    versions: list[str] = field(default_factory=list)  # of the family; none: no runtime is asked for
    steps: list[tuple[str, str]] = field(default_factory=list)
    tests: list[str] = field(default_factory=list)
    coverage: list[str] = field(default_factory=list)
    renew_on: list[str] = field(default_factory=list)
    folder: str = ""
    source: str = ""  # what of the repository is fetched beside the files
    evidence: list[Evidence] = field(default_factory=list)
    guesses: list[str] = field(default_factory=list)

    def saw(self, file: str | None, says: str) -> None:
        if file:
            self.evidence.append(Evidence(file, says))

    def done(self, main: str) -> Proposal:
        lines = [
            "version = 1",
            "",
            "[events]",
            f"push         = {{ branches = [{quoted(main)}] }}",
            f"pull-request = {{ into = [{quoted(main)}] }}",
            "",
            f"[jobs.{self.job}]",
            f"title   = {quoted(self.job_title)}",
        ]
        if self.versions:
            values = ", ".join(quoted(v) for v in self.versions)
            lines += [f"vary    = {{ {self.family} = [{values}] }}", f"runtime = [{quoted(self.family)}]"]
        if self.folder:
            lines.append(f"folder  = {quoted(self.folder)}")
        if self.source:
            lines.append(f"source  = {self.source}")
        lines.append('timeout = "20 min"')
        collect = [f"tests = [{', '.join(map(quoted, self.tests))}]"]
        if self.coverage:
            collect.append(f"coverage = [{', '.join(map(quoted, self.coverage))}]")
        for i, (name, command) in enumerate(self.steps):
            written = quoted(command) if "\n" not in command else f"'''\n{command}\n'''"
            lines += ["", f"[[jobs.{self.job}.steps]]", f"name    = {quoted(name)}", f"command = {written}"]
            if i == len(self.steps) - 1:
                lines.append(f"collect = {{ {', '.join(collect)} }}")
        if self.coverage:
            lines += ["", "[[gate.rules]]", 'name     = "line coverage never falls"', 'measure  = "coverage.line"']
            lines.append('at-least = "baseline"')
        return Proposal(self.family, self.title, "\n".join(lines) + "\n", tuple(self.evidence), tuple(self.guesses))


def versions(draft: Draft, offers: Sequence[str], lowest: str | None, exact: Sequence[str] = ()) -> None:
    """Choose the values of the family's dimension: those declared, else those that runners offer from the lowest on."""
    family = draft.family
    offered = {o.partition(" ")[2] for o in offers if o.startswith(f"{family} ")}
    depth = max((v.count(".") for v in _KNOWN.get(family, ())), default=1)
    usable = sorted((v for v in offered if v.count(".") == depth and _VERSION.match(v)), key=version_key)
    if exact:
        draft.versions = sorted(dict.fromkeys(exact), key=version_key)
    elif usable:
        least = lowest or _KNOWN.get(family, [usable[0]])[0]
        fitting = [v for v in usable if version_key(v) >= version_key(least)]
        draft.versions = fitting or [lowest or usable[-1]]
        draft.guesses.append(f"versions of {family}: {', '.join(draft.versions)} are those that your runners offer")
    else:
        known = [v for v in _KNOWN.get(family, ()) if lowest is None or version_key(v) >= version_key(lowest)]
        draft.versions = [known[0], known[-1]] if len(known) > 1 else known or ([lowest] if lowest else [])
        draft.guesses.append(f"versions of {family}: no runner offers {family} yet, so these are a guess")


def at_least(wish: str | None) -> str | None:
    found = re.search(r"(?:>=|~=|\^|~|==)?\s*(\d+(?:\.\d+)?)", wish or "")
    return found[1] if found else None


def folder_of(path: str) -> str:
    return path.rsplit("/", 1)[0] if "/" in path else ""
