"""The section Coverage of a run, and a folder's coverage over time."""
