"""The section Findings."""
