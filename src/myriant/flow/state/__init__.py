"""What a run, cell, attempt, lease, search, control run may become, and the only functions that change it."""
