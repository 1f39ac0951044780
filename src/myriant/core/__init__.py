"""The computation: pure functions on plain values; no I/O, no framework, no database, no clock."""
