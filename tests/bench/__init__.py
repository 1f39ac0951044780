"""Measurements, as JSON lines: `make bench`. Nothing here is asserted in tests."""
