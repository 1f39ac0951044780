"""What a run asks for: jobs and cells, reuse, supersession, turns."""

ENTRANCES = ("cells", "reading")
