"""Something happened to a repository: a run is made."""

ENTRANCES = ("by_hand", "foreign", "pulls", "refreshing", "refs", "schedules", "sending", "told")
