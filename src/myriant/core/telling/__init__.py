"""Telling: when an outcome is news, and in which words it leaves."""
