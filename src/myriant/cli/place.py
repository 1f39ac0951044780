"""The data directory of one installation, and what lies where in it."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

import typer

from myriant.cli.errors import Trouble
from myriant.cli.users import User
from myriant.flow.sealing import make_key
from myriant.settings import settings

LEAST_FREE = 300 << 20
_MAKE_KEY = "import pathlib, sys, myriant.flow.sealing as s; s.make_key(pathlib.Path(sys.argv[1]))"


def default_data() -> Path:
    """MYRIANT_DATA, else /var/lib/myriant for root and ~/.local/share/myriant for anybody else."""
    if (given := settings().data) is not None:
        return given
    return Path("/var/lib/myriant") if os.geteuid() == 0 else Path.home() / ".local/share/myriant"


Data = Annotated[Path, typer.Option(help="The data directory.", default_factory=default_data)]


@dataclass(frozen=True, slots=True)
class Place:
    data: Path

    @property
    def postgres(self) -> Path:
        return self.data / "postgres"

    @property
    def private(self) -> Path:
        return self.data / "private"

    @property
    def connection(self) -> Path:
        return self.data / "connection.json"

    @property
    def key(self) -> Path:
        """The key that secrets are sealed with: keep it apart from copies of the database."""
        return self.private / "key"

    @property
    def door(self) -> Path:
        """Where server and worker reach the door to this machine's repositories (repos/door.py)."""
        return self.private / "door"

    @property
    def blobs(self) -> Path:
        return self.data / "private" / "blobs"

    @property
    def mirrors(self) -> Path:
        return self.data / "private" / "mirrors"

    @property
    def work(self) -> Path:
        return self.data / "work"

    @property
    def demo(self) -> Path:
        return self.data / "demo"

    def make(self) -> None:
        """Make the folders. Raises Trouble without room or right."""
        try:
            self.data.mkdir(parents=True, exist_ok=True)
            self.data.chmod(0o711)
            self.private.mkdir(exist_ok=True, mode=0o700)
        except OSError as error:
            raise self._trouble(error) from error
        free = shutil.disk_usage(self.data).free
        if free < LEAST_FREE:
            raise Trouble(
                f"the disk of {self.data} has {free >> 20} MB left, at least {LEAST_FREE >> 20} MB are needed",
                "make room, or choose another disk with --data",
            )

    def prepare(self, owner: User) -> None:
        """Give the private folder to its owner. Raises Trouble without the right."""
        try:
            self.give_to(owner)
        except OSError as error:
            raise self._trouble(error) from error

    def _trouble(self, error: OSError) -> Trouble:
        return Trouble(f"the data directory {self.data} cannot be made: {error.strerror}", "choose another with --data")

    def give_to(self, owner: User) -> None:
        """Make all that server and worker work with theirs: also what root has written since."""
        theirs = (owner.uid, owner.gid)
        os.chown(self.private, *theirs)
        for _, folders, files, at in os.fwalk(self.private):  # by open folders: none can be exchanged for a link
            for name in (*files, *folders):
                status = os.stat(name, dir_fd=at, follow_symlinks=False)
                if (status.st_uid, status.st_gid) != theirs:
                    os.chown(name, *theirs, dir_fd=at, follow_symlinks=False)
        self.private.chmod(0o2770)  # what root adds while they run can be worked on by them: their group, its umask

    def make_key(self, owner: User | None) -> None:
        """Make the installation's key, once, as the private folder's owner: root writes nothing there by name."""
        if owner is None:
            make_key(self.key)
            return
        words = [sys.executable, "-P", "-c", _MAKE_KEY, str(self.key)]
        subprocess.run(["setpriv", *owner.words(), "--", *words], check=True, cwd="/")

    def write_connection(self, address: str, token: str, database: str) -> None:
        """How commands on this machine reach the server; readable by its owner only."""
        part = self.connection.with_suffix(".part")
        part.touch(mode=0o600)
        part.write_text(json.dumps({"address": address, "token": token, "database": database}))
        part.replace(self.connection)
        (self.private / "connection.json").unlink(missing_ok=True)  # where an earlier version had it
