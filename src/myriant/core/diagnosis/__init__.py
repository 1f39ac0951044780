"""Comparison with a baseline, and what explains a failure."""
