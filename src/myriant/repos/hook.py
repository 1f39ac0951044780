"""The server-side hook: it rings at every push; a hook that was there is kept and runs first."""

from __future__ import annotations

import shlex
import stat
from pathlib import Path

_MARK = "# rings Myriant at every push"
_KEPT = "post-receive.before-myriant"

_RING = """\
import json, os, socket, sys
name, host, port = sys.argv[1:4]
token = os.environ["MYRIANT_BELL_TOKEN"]
rows = [line.rstrip("\\n").split(" ", 2) for line in sys.stdin if line.count(" ") >= 2]
moved = [{"before": b, "after": a, "ref": r} for b, a, r in rows if r.startswith(("refs/heads/", "refs/tags/"))]
for at in range(0, len(moved), 400):
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
            for said in json.loads(text)["said"]:
                print("myriant:", said)
        else:
            print("myriant: the server answered", status.decode("latin-1"))
    except (OSError, ValueError, KeyError) as error:
        print("myriant: the server cannot be reached now; it looks for this push when it is back", f"({error})")
"""


def install_hook(repository: Path, *, project: str, host: str, port: int, token: str, python: str) -> bool:
    """Put the hook into a bare repository on this machine; whether one that was there is now chained.

    Raises OSError when the hooks folder cannot be written.
    """
    hooks = repository / "hooks"
    hooks.mkdir(exist_ok=True)
    hook, kept, ring = hooks / "post-receive", hooks / _KEPT, hooks / "myriant-ring.py"
    if hook.exists() and _MARK not in hook.read_text(encoding="utf-8", errors="replace"):
        hook.replace(kept)
    ring.write_text(_RING, encoding="utf-8")
    words = " ".join(shlex.quote(w) for w in (project, host, str(port)))
    hook.write_text(
        "#!/bin/sh\n"
        f"{_MARK}\n"
        'here=$(dirname "$0")\n'
        "feed=$(cat)\n"
        f'if [ -x "$here/{_KEPT}" ]; then printf \'%s\\n\' "$feed" | "$here/{_KEPT}" "$@"; fi\n'
        f"printf '%s\\n' \"$feed\" | MYRIANT_BELL_TOKEN={shlex.quote(token)} "
        f'{shlex.quote(python)} -I -S "$here/myriant-ring.py" {words} || :\n',
        encoding="utf-8",
    )
    for path in (hook, ring):
        path.chmod(stat.S_IRWXU)
    return kept.exists()


def remove_hook(repository: Path) -> None:
    """Take the hook out again and put back the one that was there."""
    hooks = repository / "hooks"
    hook, kept = hooks / "post-receive", hooks / _KEPT
    if hook.exists() and _MARK in hook.read_text(encoding="utf-8", errors="replace"):
        hook.unlink()
        (hooks / "myriant-ring.py").unlink(missing_ok=True)
        if kept.exists():
            kept.replace(hook)
