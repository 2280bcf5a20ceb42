"""Commands that choose and compare."""
