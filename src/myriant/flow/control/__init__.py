"""A person's word: again, stop, approve, quarantine, search."""
