"""What the settings of a project show."""
