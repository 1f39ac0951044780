"""The server-side hook: it rings at every push; a hook that was there is kept and runs first.

Whoever may push runs it, and nobody else reads its tokens: they stand in a file that those may read who may write the
repository's objects. One hook serves all projects over a repository, a line each.
"""

from __future__ import annotations

import contextlib
import os
import shlex
import stat
import subprocess
from collections.abc import Sequence
from pathlib import Path

_MARK = "# rings Myriant at every push"
_KEPT = "post-receive.before-myriant"
_BELLS = "myriant-bells"  # lines of project, host, port and token
_RINGING = "myriant-ring.py"
_TRY = "MYRIANT_TRY"

_RING = """\
import json, os, socket, sys
trying = os.environ.get("MYRIANT_TRY")
rows = [line.rstrip("\\n").split(" ", 2) for line in sys.stdin if line.count(" ") >= 2]
moved = [{"before": b, "after": a, "ref": r} for b, a, r in rows if not r.startswith(("refs/notes/", "refs/myriant/"))]
failed = 0
try:
    with open(os.path.join(os.path.dirname(os.path.abspath(__file__)), "myriant-bells")) as file:
        bells = [line.split() for line in file]
except OSError as error:
    bells, failed = [], 1
    print("myriant: the bell cannot be rung; the server looks for this push by itself", f"({error})")
for name, host, port, token in bells:
    for at in range(0, max(len(moved), 1 if trying else 0), 400):
        body = json.dumps({"moved": moved[at:at + 400]}).encode()
        head = (f"POST /api/v1/projects/{name}/bell HTTP/1.1\\r\\nHost: {host}:{port}\\r\\nConnection: close\\r\\n"
                f"Authorization: Bearer {token}\\r\\nContent-Type: application/json\\r\\n"
                f"Content-Length: {len(body)}\\r\\n\\r\\n")
        try:
            with socket.create_connection((host, int(port)), timeout=15) as line:
                line.sendall(head.encode() + body)
                answer = b""
                while chunk := line.recv(65536):
                    answer += chunk
            status, _, rest = answer.partition(b"\\r\\n")
            text = rest.partition(b"\\r\\n\\r\\n")[2].decode("utf-8", "replace")
            if b" 200 " in status + b" ":
                for said in [] if trying else json.loads(text)["said"]:
                    print("myriant:", said)
            else:
                failed = 1
                print("myriant: the server answered", status.decode("latin-1"))
        except (OSError, ValueError, KeyError) as error:
            failed = 1
            print("myriant: the server cannot be reached now; it looks for this push when it is back", f"({error})")
sys.exit(failed)
"""


def install_hook(repository: Path, *, project: str, host: str, port: int, token: str, python: str) -> bool:
    """Put the hook into a bare repository on this machine; whether one that was there is now chained.

    Mode and owner of that one stay as they are. Raises OSError when the hooks folder cannot be written.
    """
    hooks = repository / "hooks"
    hooks.mkdir(exist_ok=True)
    hook, kept = hooks / "post-receive", hooks / _KEPT
    if hook.exists() and not _ours(hook):
        hook.replace(kept)
    bells = _bells(hooks)
    bells[project] = [project, host, str(port), token]
    readers = (repository / "objects").stat().st_mode  # who writes objects may push, and rings
    _put(repository, hooks / _BELLS, _text(bells), 0o400 | (readers & 0o020) << 1 | (readers & 0o002) << 1)
    _put(repository, hooks / _RINGING, _RING, 0o644)
    lines = (
        "#!/bin/sh",
        _MARK,
        'here=$(dirname "$0")',
        "feed=$(cat)",
        f'if [ -x "$here/{_KEPT}" ] && [ -z "${_TRY}" ]; then printf \'%s\\n\' "$feed" | "$here/{_KEPT}" "$@"; fi',
        "moved=${" + _TRY + ":-}",
        "while read -r _ _ ref; do",
        '  case "$ref" in refs/notes/*|refs/myriant/*) ;; *) moved=1; break ;; esac',
        "done <<END",
        "$feed",
        "END",
        '[ -n "$moved" ] || exit 0',  # our own notes: nothing rings
        f"python={shlex.quote(python)}",
        '[ -x "$python" ] || python=python3',  # another user may not reach the server's own
        f'printf \'%s\\n\' "$feed" | "$python" -I -S "$here/{_RINGING}"',
        f'rung=$?; [ -z "${_TRY}" ] || exit $rung',
        "exit 0",
        "",
    )
    _put(repository, hook, "\n".join(lines), 0o755)
    return kept.exists()


def try_hook(repository: Path) -> str:
    """Ring as each kind of user who may push would: what goes wrong, empty when nothing does."""
    owner, status = repository.stat(), (repository / "objects").lstat()
    if stat.S_ISLNK(status.st_mode):
        return "its objects are a link, which may lead to what is somebody else's"
    users: list[tuple[int, int] | None] = [None]
    if os.geteuid() == 0:
        users = [(owner.st_uid, owner.st_gid)]
        if status.st_mode & stat.S_IWGRP:
            users.append((_NOBODY, status.st_gid))
        if status.st_mode & stat.S_IWOTH:
            users.append((_NOBODY, _NOBODY))
    for user in users:
        words: Sequence[str] = []
        if user is not None:
            words = ["setpriv", "--reuid", str(user[0]), "--regid", str(user[1]), "--clear-groups"]
        try:
            done = subprocess.run(
                [*words, str(repository / "hooks/post-receive")],
                cwd=repository,
                stdin=subprocess.DEVNULL,
                capture_output=True,
                timeout=30,
                check=False,
                env={"PATH": "/usr/local/bin:/usr/bin:/bin", _TRY: "1"},
            )
        except (OSError, subprocess.TimeoutExpired) as error:
            return f"it could not be run: {error}"
        if done.returncode:
            said = (done.stdout + done.stderr).decode("utf-8", "replace").strip().removeprefix("myriant: ")
            who = f" as user {user[0]}" if user is not None and user[0] else ""
            return f"rung{who} it said: {said[-300:] or f'exit status {done.returncode}'}"
    return ""


_NOBODY = 65534


def remove_hook(repository: Path, project: str) -> None:
    """Take a project's bell out again; with the last one goes the hook, and the one that was there is put back."""
    hooks = repository / "hooks"
    hook, kept = hooks / "post-receive", hooks / _KEPT
    if not hook.exists() or not _ours(hook):
        return
    bells = _bells(hooks)
    bells.pop(project, None)
    if bells:
        mode = stat.S_IMODE((hooks / _BELLS).stat().st_mode)
        _put(repository, hooks / _BELLS, _text(bells), mode)
        return
    hook.unlink()
    for name in (_RINGING, _BELLS):
        (hooks / name).unlink(missing_ok=True)
    if kept.exists():
        kept.replace(hook)


def _ours(hook: Path) -> bool:
    return _MARK in hook.read_text(encoding="utf-8", errors="replace")


def _bells(hooks: Path) -> dict[str, list[str]]:
    try:
        lines = (hooks / _BELLS).read_text(encoding="utf-8").splitlines()
    except FileNotFoundError:
        return {}
    return {row[0]: row for line in lines if len(row := line.split()) == 4}


def _text(bells: dict[str, list[str]]) -> str:
    return "".join(" ".join(row) + "\n" for row in bells.values())


def _put(repository: Path, file: Path, text: str, mode: int) -> None:
    """Write a file whole, with the owner that the repository has; never through a link."""
    part = file.with_name(f".{file.name}-{os.getpid()}")
    part.unlink(missing_ok=True)
    descriptor = os.open(part, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
    with os.fdopen(descriptor, "w", encoding="utf-8") as out:
        out.write(text)
        with contextlib.suppress(PermissionError):
            owner = (repository / "objects").stat()
            os.fchown(descriptor, owner.st_uid, owner.st_gid)
        os.fchmod(descriptor, mode)
    part.replace(file)
