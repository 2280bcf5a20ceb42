"""The measure: its arguments, its making, its result, and what to know before trusting it."""
