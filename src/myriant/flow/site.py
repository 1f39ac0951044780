"""What every part of the flow works with: the database, the blobs and the mirrors of one installation."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from myriant.blobs import Blobs
from myriant.flow.errors import BadInput
from myriant.repos.mirror import Mirror
from myriant.store.engine import Store
from myriant.store.tables import Project


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

    def mirror(self, project: Project) -> Mirror:
        return Mirror(self.mirrors / f"{project.id}.git", project.address)

    def run_address(self, project: str, number: int) -> str:
        return f"{self.address}/p/{project}/runs/{number}"
