"""What a runner sends while it works."""
