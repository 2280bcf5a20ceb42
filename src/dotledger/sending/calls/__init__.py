"""One call: its turn, its token, its line."""
