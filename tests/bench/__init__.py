"""Measurements, as JSON lines: `make bench`. Nothing here is asserted in tests."""

import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))  # the tests' own folder, as for a test
