"""What every part of the flow works with: the database, the blobs and the mirrors of one installation."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from myriant.blobs import Blobs
from myriant.flow.errors import BadInput
from myriant.flow.sealing import opened
from myriant.repos.mirror import Mirror
from myriant.repos.remote import Remote
from myriant.store.engine import Store
from myriant.store.tables import Project

CREDENTIAL = "@repository"  # as what a repository's password is sealed


@dataclass(frozen=True, slots=True)
class Site:
    store: Store
    blobs: Blobs
    mirrors: Path
    address: str  # where people reach it: http://127.0.0.1:8420
    key_file: Path | None = None  # of the key that secrets are sealed with

    def key(self) -> bytes:
        """The key in force. Raises BadInput when there is none."""
        try:
            return self.key_file.read_bytes() if self.key_file is not None else b""
        except OSError as error:
            raise BadInput(f"the key of the secrets cannot be read: {error}", "put the file back") from error

    def remote(self, project: Project) -> Remote:
        """Its repository, with what opens it."""
        sealed = project.credential
        password = opened(self.key(), project.id, CREDENTIAL, sealed) if sealed is not None else ""
        return Remote(project.address, password or "")

    def mirror(self, project: Project) -> Mirror:
        return Mirror(self.mirrors / f"{project.id}.git", self.remote(project), project.pull_refs)

    def run_address(self, project: str, number: int) -> str:
        return f"{self.address}/p/{project}/runs/{number}"
