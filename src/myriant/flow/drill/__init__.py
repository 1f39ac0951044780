"""A gate is tried with artificial failures in a throw-away copy."""

ENTRANCES = ("asked", "by_schedule", "trial")
