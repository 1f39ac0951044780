"""What time brings: small tasks with their own interval, lock and error; retention; reading again."""

ENTRANCES = ("rereading", "retention", "timekeeping")
