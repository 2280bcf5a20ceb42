"""The language in which descriptions say how values are read."""
