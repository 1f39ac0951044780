"""Something happened to a repository: a run is made."""
