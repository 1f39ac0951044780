"""What was released: statements of what was made from what, signed."""
