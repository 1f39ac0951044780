"""From a job to its cells."""
