"""The plan workbench."""
