"""The user that server and worker have where root starts them."""

from __future__ import annotations

import os
import pwd
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import myriant

NAME = "myriant"


@dataclass(frozen=True, slots=True)
class User:
    uid: int
    gid: int

    def words(self) -> list[str]:
        """Words of setpriv(1) that make a process this user's, with no way back."""
        return [
            "--reuid",
            str(self.uid),
            "--regid",
            str(self.gid),
            "--clear-groups",
            "--no-new-privs",
            "--bounding-set=-all",
            "--inh-caps=-all",
        ]


def become(user: User) -> None:
    """Make this process that user's, with no way back."""
    os.setgroups([])
    os.setresgid(user.gid, user.gid, user.gid)
    os.setresuid(user.uid, user.uid, user.uid)


def server_user(say: Callable[[str], None]) -> User | None:
    """The system user of server and worker, made where it is missing; None for anybody but root.

    None also where that user cannot read this program: then server and worker are root's, and that is said.
    """
    if os.geteuid() != 0:
        return None
    known = _known() or _made()
    if known is None:
        say(f"there is no user {NAME} and none can be made: server and worker run as root")
        return None
    tried = ["setpriv", *known.words(), "--", sys.executable, "-I", "-S", "-c", f"open({myriant.__file__!r})"]
    if subprocess.run(tried, capture_output=True, check=False, cwd="/").returncode:
        say(
            f"the user {NAME} cannot read {sys.executable} and {Path(myriant.__file__).parent}: server and worker"
            " run as root; with the program outside of /root they have a user of their own"
        )
        return None
    return known


def _known() -> User | None:
    try:
        found = pwd.getpwnam(NAME)
    except KeyError:
        return None
    return User(found.pw_uid, found.pw_gid) if found.pw_uid else None


def _made() -> User | None:
    words = ["useradd", "--system", "--user-group", "--no-create-home", "--home-dir", "/var/lib/myriant"]
    for _ in range(20):  # another one may be making it
        try:
            subprocess.run([*words, "--shell", "/usr/sbin/nologin", NAME], capture_output=True, check=False)
        except OSError:
            return None
        if (user := _known()) is not None:
            return user
        time.sleep(0.1)
    return None
