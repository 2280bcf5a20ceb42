"""The measure: its arguments, its making, its result."""
