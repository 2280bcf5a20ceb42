"""Acting on what was found: covering, sorting."""
