"""The Desk."""
