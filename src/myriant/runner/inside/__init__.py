"""The porter: what runs inside an attempt's walls, as its user, for the runner, and touches what steps left there.

Standard library only, and of ours the globs: it is started with an interpreter that sees no other package. The runner
gives it requests and reads what it streams out (`frames`); the runner itself opens nothing that a step could write.
"""
