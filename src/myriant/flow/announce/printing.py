"""Pages on paper: Chromium makes a PDF of a page of ours, where there is one on the server's machine."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
import threading
from pathlib import Path

from myriant.settings import settings

SECONDS = 90.0
_NAMES = ("chromium", "chromium-browser", "google-chrome")
_one_at_a_time = threading.Lock()  # each takes some hundred megabytes


class CannotPrint(Exception):
    """No PDF was made; the text says why."""


def program() -> str | None:
    """The Chromium that prints: MYRIANT_CHROMIUM, or one that is found; None without."""
    given = settings().chromium
    if given is not None:
        return given if Path(given).exists() else None
    return next((found for name in _NAMES if (found := shutil.which(name))), None)


def printed(page: str, wait: float = SECONDS) -> bytes:
    """A PDF of a page that holds no script and fetches nothing, after at most so long a wait. Raises CannotPrint."""
    chromium = program()
    if chromium is None:
        raise CannotPrint("there is no Chromium on the server's machine")
    if not _one_at_a_time.acquire(timeout=wait):
        raise CannotPrint("another page is being printed")
    try:
        with tempfile.TemporaryDirectory(prefix="myriant-print-") as folder:
            source, made = Path(folder, "page.html"), Path(folder, "page.pdf")
            source.write_text(page, encoding="utf-8")
            words = [
                chromium,
                "--headless",
                "--no-sandbox",
                "--disable-gpu",
                "--no-first-run",
                "--disable-sync",
                "--disable-background-networking",
                "--disable-component-update",
                "--disable-quic",
                "--host-resolver-rules=MAP * ~NOTFOUND",
                f"--user-data-dir={folder}/profile",
                "--no-pdf-header-footer",
                f"--print-to-pdf={made}",
                source.as_uri(),
            ]
            environment = {"PATH": os.environ.get("PATH", ""), "HOME": folder, "LC_ALL": "C.UTF-8"}
            try:
                done = subprocess.run(words, capture_output=True, timeout=SECONDS, check=False, env=environment)
            except (OSError, subprocess.TimeoutExpired) as error:
                raise CannotPrint(f"Chromium made no page: {error}") from error
            if not made.exists():
                said = done.stderr.decode("utf-8", "replace").strip()[-300:]
                raise CannotPrint(f"Chromium made no page (exit status {done.returncode}): {said}")
            return made.read_bytes()
    finally:
        _one_at_a_time.release()
