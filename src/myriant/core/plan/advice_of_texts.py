"""Advice about single texts: paths of a machine, secrets, files that are not there."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from math import log2
from typing import Any

from myriant.core.plan.advice_of_jobs import Surroundings, commands, short
from myriant.core.plan.globs import matches
from myriant.core.plan.model import FILE_NAME, Plan
from myriant.core.plan.places import Path
from myriant.core.plan.problems import nearest
from myriant.core.plan.reporting import quoted
from myriant.core.plan.table import Reader

_MACHINE = re.compile(r"(?<![\w$}/.-])(/home/\w+|/Users/\w+|/root/|[A-Z]:[\\/](?!/)|~/)[^\s\"';|&]*")
_SECRET_NAME = re.compile(r"(?i)(pass(word|wd)?|secret|token|api_?key|private_?key|credential)s?$")
_URL_SECRET = re.compile(r"[a-z][a-z0-9+.-]*://[^\s/:@]+:([^\s/@]+)@")
LEFTOVER = re.compile(r"\b(TODO|FIXME|XXX|CHANGE-?ME|REPLACE-?ME|lorem ipsum)\b|<[a-z][a-z -]{2,30}>", re.IGNORECASE)


def texts(value: Any, path: Path) -> Iterator[tuple[Path, str]]:
    if isinstance(value, str):
        yield path, short(value)
    elif isinstance(value, dict):
        for key, inner in value.items():
            yield from texts(inner, (*path, key))
    elif isinstance(value, list):
        for i, inner in enumerate(value):
            yield from texts(inner, (*path, i))


def machine_paths(reader: Reader, path: Path, text: str) -> None:
    if match := _MACHINE.search(text):
        reader.warn(
            path,
            f'"{match[0][:80]}" is a path of one machine',
            "write it relative to the workspace, or use a variable",
            value=True,
        )


def secrets(reader: Reader, path: Path, text: str) -> None:
    why = ""
    if "-----BEGIN " in text and "PRIVATE KEY" in text:
        why = "a private key stands in the open"
    elif (match := _URL_SECRET.search(text)) and not match[1].startswith("$"):
        why = "a password stands in an address"
    elif _SECRET_NAME.search(str(path[-1])) and len(text) >= 6 and "$" not in text and "env" in path:
        why = f"{path[-1]} looks like a secret in the open"
    elif any(_random(word) for word in re.findall(r"[A-Za-z0-9+/_=-]{24,}", text)):
        why = "this looks like a key or token in the open"
    if why:
        reader.warn(path, why, 'store it as a secret and name it: secrets = ["NAME"]', value=True)


def _random(word: str) -> bool:
    """Whether a word is as irregular as a generated key: letters and digits mixed, over 3.8 bits a sign."""
    if not (re.search(r"\d", word) and re.search(r"[a-z]", word) and (re.search(r"[A-Z]", word) or len(word) >= 32)):
        return False
    shares = [word.count(c) / len(word) for c in set(word)]
    return -sum(s * log2(s) for s in shares) > (3.5 if len(word) < 40 else 3.4) and "/" not in word.strip("/")[:-1]


def stored_secrets(reader: Reader, data: dict[str, Any], around: Surroundings) -> None:
    if around.secrets is None:
        return
    for path, text in texts(data, ()):
        named = path[-2] == "secrets" if len(path) > 1 else False
        if (named or path[-1] == "url-secret") and text not in around.secrets:
            near = nearest(text, around.secrets)
            reader.warn(
                path,
                f'the secret "{text[:80]}" is not stored for this project',
                f"did you mean {near}?" if near else "store it in the project's settings",
                value=True,
                edits=reader.replace_value(path, quoted(near)) if near else (),
            )


def missing_files(reader: Reader, plan: Plan, around: Surroundings) -> None:
    """Folders, scripts and files that the plan names and the repository does not have."""
    if around.files is None:
        return
    files = set(around.files)
    folders = {f.rsplit("/", i)[0] for f in files for i in range(1, f.count("/") + 1)}
    for job in plan.jobs:
        at = ("jobs", job.id)
        named: list[tuple[Path, str | None]] = [((*at, "folder"), job.folder)]
        named += [((*at, "steps", n, "folder"), s.folder) for n, s in enumerate(job.steps)]
        for where, folder in named:
            if folder and folder.strip("./") and folder.strip("/").removeprefix("./") not in folders:
                _absent(reader, where, f"there is no folder {folder} in the repository", folder, folders)
        settings = job.settings
        for key, file in (("file", settings.file), ("example", settings.example)) if settings else ():
            if file and file not in files:
                _absent(reader, (*at, "settings", key), f"there is no file {file} in the repository", file, files)
        for n, step in enumerate(job.steps):
            for command in commands([step]):
                for script in re.findall(r"(?:^|[;&|]\s*|\bsh\s+|\bbash\s+)\./([\w./-]+)", command):
                    base = (step.folder or job.folder or ".").strip("./")
                    full = f"{base}/{script}" if base else script
                    if full not in files and not any(
                        w in command for w in ("chmod", ">", "make", "gradle", "cmake", "cp ")
                    ):
                        _absent(
                            reader,
                            (*at, "steps", n, "command"),
                            f"there is no script {full} in the repository",
                            full,
                            files,
                            edit=False,
                        )
    for job in plan.jobs:
        for i, glob in enumerate(job.touching):
            if not any(matches(glob, f) for f in files):
                mend = "name files that are there"
                reader.warn(("jobs", job.id, "touching", i), f"no file of the repository fits {glob}", mend, value=True)


def _absent(reader: Reader, path: Path, message: str, name: str, known: set[str], *, edit: bool = True) -> None:
    near = nearest(name, sorted(known))
    mend = f'did you mean "{near}"?' if near else "add it, or name one that is there"
    edits = reader.replace_value(path, quoted(near)) if near and edit else ()
    reader.warn(path, message, mend, value=True, edits=edits)


def misplaced(files: Sequence[str]) -> str:
    """What to tell of a repository whose plan stands under another name or at another place; empty when none does."""
    known = {FILE_NAME, "myriant.tml", "myriant.yml", "myriant.yaml", "myriant.json", "myriant.toml.txt", "myriad.toml"}
    for path in sorted(files, key=lambda p: (p.count("/"), p)):
        name = path.rsplit("/", 1)[-1]
        likely = name.lower().lstrip(".") in known or (
            name.endswith((".toml", ".tml"))
            and nearest(name.lower(), [FILE_NAME]) is not None
            and "myr" in name.lower()
        )
        if path != FILE_NAME and likely:
            return f"there is no {FILE_NAME} at the root of the repository, but {path}: move it to {FILE_NAME}"
    return ""
