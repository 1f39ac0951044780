"""What an installation is set to: projects, people, tokens, secrets, filters, kinds of failure, ways to tell."""

ENTRANCES = (
    "badges",
    "caches",
    "filters",
    "hearers",
    "kinds",
    "passes",
    "people",
    "plans",
    "projects",
    "secrets",
    "ways",
)
