"""How many may be connected, by what the process may open."""

from __future__ import annotations

import resource
import subprocess
import sys

import pytest

SAYS = """
import resource
from myriant.api.serving import most_connections
print(most_connections(), resource.getrlimit(resource.RLIMIT_NOFILE)[0])
"""


@pytest.mark.parametrize(
    ("usual", "allowed", "told"),
    [(256, 4096, "3696 4096"), (256, 420, "100 420"), (1024, 1024, "624 1024")],
)
def test_the_limit_of_open_files_is_raised_and_bounds_connections(usual: int, allowed: int, told: str) -> None:
    def limit() -> None:
        resource.setrlimit(resource.RLIMIT_NOFILE, (usual, allowed))

    done = subprocess.run([sys.executable, "-c", SAYS], preexec_fn=limit, capture_output=True, text=True, check=True)
    assert done.stdout.strip() == told
