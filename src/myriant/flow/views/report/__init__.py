"""The report, on the screen and in a mail."""
