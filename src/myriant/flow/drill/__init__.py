"""A gate is tried with artificial failures in a throw-away copy."""

ENTRANCES = ("by_schedule", "trial")
