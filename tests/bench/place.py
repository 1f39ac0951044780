"""An installation of its own for measurements, with the demo loaded."""

from __future__ import annotations

import shutil
import sys
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

from myriant.cli.database import free_port
from myriant.cli.place import Place
from myriant.cli.up import Installation


@contextmanager
def installed(slots: int = 4, share: Sequence[Path] = ()) -> Iterator[Installation]:
    folder = Path(tempfile.mkdtemp(prefix="myriant-bench-"))
    folder.chmod(0o755)
    installation = Installation(
        Place(folder / "data"), free_port(), slots, share, tell=lambda text: print(text, file=sys.stderr)
    )
    try:
        installation.begin()
        yield installation
    finally:
        installation.stop()
        shutil.rmtree(folder, ignore_errors=True)
