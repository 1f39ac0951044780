"""Trends: what the past of a branch says, as series, and where a series changed."""
