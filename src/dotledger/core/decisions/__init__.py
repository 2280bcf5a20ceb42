"""Rules: from findings to pass, hold or block, with reasons."""
