"""For a terminal."""
