"""Commands that act on what was found."""
