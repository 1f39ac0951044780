"""What every part of the flow works with: the database, the blobs and the mirrors of one installation."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from myriant.blobs import Blobs
from myriant.repos.mirror import Mirror
from myriant.store.engine import Store
from myriant.store.tables import Project


@dataclass(frozen=True, slots=True)
class Site:
    store: Store
    blobs: Blobs
    mirrors: Path
    address: str  # where people reach it: http://127.0.0.1:8420

    def mirror(self, project: Project) -> Mirror:
        return Mirror(self.mirrors / f"{project.id}.git", project.address)

    def run_address(self, project: str, number: int) -> str:
        return f"{self.address}/p/{project}/runs/{number}"
