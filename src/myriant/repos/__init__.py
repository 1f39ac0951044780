"""Git through its command line: mirrors, commits, files at a commit, notes, hooks."""
