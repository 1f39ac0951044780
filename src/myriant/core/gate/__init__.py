"""Rules, measures and the verdict."""
