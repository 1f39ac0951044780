"""The product with one place altered: a tree of its own, in which something is run."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parents[2]


@dataclass(frozen=True, slots=True)
class Alteration:
    """A piece of a file under src/myriant, and what stands there instead."""

    file: str
    was: str
    now: str

    def applied(self, text: str) -> str:
        """The file's text with the first such piece replaced. Raises ValueError when there is none."""
        if self.was not in text:
            raise ValueError(f"{self.file} has no {self.was!r}")
        return text.replace(self.was, self.now, 1)


@contextmanager
def altered(change: Alteration | None) -> Iterator[Path]:
    """A copy of the sources and tests with the alteration, if any."""
    folder = Path(tempfile.mkdtemp(prefix="myriant-altered-"))
    folder.chmod(0o755)  # server and worker may be users of their own
    try:
        for part in ("src", "tests", "pyproject.toml", "docs", "web/dist"):
            source = ROOT / part
            if source.is_dir():
                shutil.copytree(source, folder / part)  # compiled files too: their times stay
            elif source.exists():
                shutil.copy(source, folder / part)
        (folder / "web").mkdir(exist_ok=True)
        for part in (".venv", ".setup", "web/node_modules"):
            (folder / part).symlink_to(ROOT / part)
        if change is not None:
            file = folder / "src/myriant" / change.file
            file.write_text(change.applied(file.read_text()))
        yield folder
    finally:
        shutil.rmtree(folder, ignore_errors=True)


def run(folder: Path, words: Sequence[str], longest: float) -> tuple[int | None, str]:
    """Run a Python module there; its exit status (None: it took too long) and what it said."""
    environment = {**os.environ, "PYTHONPATH": f"{folder / 'src'}:{folder}"}
    process = subprocess.Popen(
        [sys.executable, "-m", *words],
        cwd=folder,
        env=environment,
        text=True,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        start_new_session=True,
    )
    try:
        said, _ = process.communicate(timeout=longest)
        return process.returncode, said
    except subprocess.TimeoutExpired:
        os.killpg(process.pid, signal.SIGINT)  # its worlds end with it
        try:
            said, _ = process.communicate(timeout=30)
        except subprocess.TimeoutExpired:
            os.killpg(process.pid, signal.SIGKILL)
            said, _ = process.communicate()
        return None, said
