"""Evidence of a failure's cause: comparison, control runs, searches, flakiness, likely changes."""
