"""People, secrets, projects, kinds of failure, history, time."""
