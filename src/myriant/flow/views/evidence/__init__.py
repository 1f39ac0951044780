"""An attempt: steps, files, log, time, source."""
