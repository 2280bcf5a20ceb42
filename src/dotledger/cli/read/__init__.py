"""Commands about what was read."""
