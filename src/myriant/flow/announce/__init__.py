"""The verdict is told."""
