"""The screen Pull requests."""
