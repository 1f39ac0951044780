"""Myriant: runs test suites over a matrix of runtime versions, gates commits and explains what failed."""

__version__ = "0.1.0"
