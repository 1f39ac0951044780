"""What a plan's commands ask of their event and commit, though their job is not told it."""

from __future__ import annotations

import re

from myriant.core.plan.advice_of_jobs import Surroundings, commands
from myriant.core.plan.model import Job
from myriant.core.plan.places import Path
from myriant.core.plan.problems import Level
from myriant.core.plan.reporting import quoted
from myriant.core.plan.table import Reader
from myriant.core.plan.watched_paths import version_from_git
from myriant.core.written import step_called

_OF_EVENT = {
    "EVENT": "event",
    "BRANCH": "branch",
    "BASE_COMMIT": "branch",
    "TAG": "tag",
    "PULL_REQUEST": "pull-request",
    "COMMIT": "commit",
}
_HISTORY = re.compile(
    r"\bgit\b(?:\s+-\S+(?:\s+[^\s-]\S*)?)*?\s+"
    r"(?:(describe|tag)|(log|shortlog|blame|rev-list|name-rev|cherry)|(rev-parse)\b(?=[^;&|]*\bHEAD))\b(?P<rest>[^;&|]*)"
)
_ONE = re.compile(r"\s-(?:1|n ?1)\b|--max-count=1\b")
_BUILDS = re.compile(
    r"\b(?:pip3?|uv)\b.*\binstall\b[^;&|]*\s(?:-e\s*)?[\"']?\.(?:\[|[\"'/]|\s|$)"
    r"|-m\s+build\b|\bhatch\s+build\b|setup\.py\s"
)
_TOLD = re.compile(rf"\bMYRIANT_({'|'.join(_OF_EVENT)})\b")


def told(reader: Reader, job: Job, around: Surroundings) -> None:
    """Commands that mention what of the event their job is not told: they would see nothing there."""
    for number, step in enumerate(job.steps):
        for command in commands([step]):
            lacking = list(
                dict.fromkeys(w for m in _TOLD.finditer(command) if (w := _OF_EVENT[m[1]]) not in job.all_told)
            )
            if not lacking:
                continue
            word = next(m[0] for m in _TOLD.finditer(command) if _OF_EVENT[m[1]] in lacking)
            wanted = f"told = [{', '.join(quoted(w) for w in (*job.told, *lacking))}]"
            path: Path = ("jobs", job.id, "steps", number, "command")
            known = path in reader.places.values
            reader.problem(
                path if known else ("jobs", job.id),
                f"{step_called(step.name)} asks for {word}, and job {job.id} is not told the {' and '.join(lacking)}",
                f"write {wanted} in [jobs.{job.id}]; it then gives no answer for another {lacking[0]}",
                value=known,
                edits=reader.added_below(("jobs", job.id), wanted) if not job.told else (),
            )
            return


def identity(reader: Reader, job: Job, around: Surroundings) -> None:
    """Commands that ask git about the commit, its history or tags, which their job does not see."""
    for number, step in enumerate(job.steps):
        for command in commands([step]):
            asked = _HISTORY.search(command)
            tool = version_from_git(around.read) if asked is None and around.read and _BUILDS.search(command) else ""
            if asked is None and not tool:
                continue
            tags = bool(tool or (asked is not None and asked[1]))
            history = tags or bool(asked is not None and asked[2] and not _ONE.search(asked["rest"]))
            sees_tags, sees_history = job.source.tags or not tags, job.source.history == "full" or not history
            if sees_tags and sees_history and (tags or history or "commit" in job.all_told):
                continue
            source = f'source = {{ history = "full"{", tags = true" if tags else ""} }}'
            wanted = source if history else 'told = ["commit"]'
            hidden = "history and tags" if tags else "history" if history else "id"
            why = f"{tool} reads the version from git" if tool else f"{step_called(step.name)} asks git for it"
            path: Path = ("jobs", job.id, "steps", number, "command")
            known = path in reader.places.values
            free = ("jobs", job.id, "source" if history else "told") not in reader.places.keys
            reader.problem(
                path if known else ("jobs", job.id),
                f"job {job.id} does not see the {hidden} of its commit, and {why}",
                f"write {wanted} in [jobs.{job.id}]; it then gives no answer for another commit",
                value=known,
                level=Level.WARNING if tool else Level.ERROR,
                edits=reader.added_below(("jobs", job.id), wanted) if free else (),
            )
            return
