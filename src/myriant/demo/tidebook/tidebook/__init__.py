"""Tide heights from harmonic constituents."""
