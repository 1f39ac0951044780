"""A runner takes a cell: claim, heartbeat, loss, and the repository's content for it."""

ENTRANCES = ("claims", "fleet", "loss", "source")
