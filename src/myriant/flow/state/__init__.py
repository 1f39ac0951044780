"""What a run, cell, attempt, control run may become, and the only functions that change it."""
