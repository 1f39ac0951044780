"""Some runs while runner, server, worker and database are killed at random moments."""

from __future__ import annotations

import shutil
import tempfile
from pathlib import Path

import pytest

from campaign import campaign, tended
from myriant.cli.database import free_port
from myriant.cli.place import Place
from myriant.cli.up import Installation


def test_no_kill_loses_doubles_or_clears_anything(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("MYRIANT_POLL_SECONDS", "3")
    folder = Path(tempfile.mkdtemp(prefix="myriant-campaign-"))
    folder.chmod(0o755)
    installation = Installation(Place(folder / "data"), free_port(), 4, tell=lambda _: None)
    try:
        installation.begin()
        stopping = tended(installation)
        tally = campaign(installation, folder, 6, seed=3, pause=(1.0, 3.0), longest=10)
        stopping.set()
        assert sum(tally.kills.values()) >= 2, tally
        assert tally.faults == 0, tally.told
    finally:
        installation.stop()
        shutil.rmtree(folder, ignore_errors=True)
