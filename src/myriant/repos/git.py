"""Calling git: never asks, never reads a person's configuration, never trusts a name."""

from __future__ import annotations

import os
import re
import subprocess
from collections.abc import Mapping, Sequence
from pathlib import Path

OBJECT = re.compile(r"[0-9a-f]{40}|[0-9a-f]{64}")


class GitError(Exception):
    """A git command failed; the text is what git said."""


def is_object_id(text: str) -> bool:
    return bool(OBJECT.fullmatch(text))


def clean_environment() -> dict[str, str]:
    kept = {
        k: v for k, v in os.environ.items() if not k.startswith("GIT_") and k in ("PATH", "LANG", "TZ", "SSL_CERT_FILE")
    }
    return kept | {
        "HOME": "/nonexistent",
        "GIT_CONFIG_NOSYSTEM": "1",
        "GIT_CONFIG_GLOBAL": str(Path(__file__).parent / "gitconfig"),
        "GIT_TERMINAL_PROMPT": "0",
        "GIT_SSH_COMMAND": "ssh -o BatchMode=yes",
        "LC_ALL": "C.UTF-8",
    }


def git(
    directory: Path | None,
    *arguments: str,
    feed: bytes | None = None,
    timeout: float = 300,
    allowed: Sequence[int] = (0,),
    environment: Mapping[str, str] | None = None,
) -> bytes:
    """Run git and return what it printed. Raises GitError with git's own words."""
    command = [
        "git",
        "-c",
        "user.name=Myriant",
        "-c",
        "user.email=myriant@localhost",
        "-c",
        "gc.auto=0",
        "-c",
        "core.quotePath=false",
        "-c",
        "protocol.ext.allow=never",
        *(["-C", str(directory)] if directory else []),
        *arguments,
    ]
    try:
        done = subprocess.run(
            command,
            input=feed,
            capture_output=True,
            env={**clean_environment(), **(environment or {})},
            timeout=timeout,
            check=False,
        )
    except subprocess.TimeoutExpired as error:
        raise GitError(f"git {arguments[0]} gave no answer in {timeout:.0f} s") from error
    except (OSError, ValueError) as error:  # too long an argument; a NUL or half a surrogate pair in it
        raise GitError(f"git cannot be started: {error}") from error
    if done.returncode not in allowed:
        said = done.stderr.decode("utf-8", "replace").strip() or f"exit status {done.returncode}"
        raise GitError(said[-2000:])
    return done.stdout
