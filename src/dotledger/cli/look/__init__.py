"""Commands that draw."""
