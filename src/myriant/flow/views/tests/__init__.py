"""The section Tests."""
