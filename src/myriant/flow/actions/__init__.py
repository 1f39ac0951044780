"""A person's word: again, stop, approve, accept, quarantine, waive, assign, search, test together."""

ENTRANCES = (
    "accepting",
    "again",
    "approvals",
    "batches",
    "quarantine",
    "repeating",
    "searches",
    "stopping",
    "taking",
    "waiving",
)
