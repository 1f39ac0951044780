"""The verdict is told: on the commit, to other programs, to people, at once or at a time."""

ENTRANCES = ("hearing", "mornings", "notes", "notices", "printing", "sending", "ways")
