"""What a runner sends while it works."""

ENTRANCES = ("caches", "expected", "log", "reports", "steps")
