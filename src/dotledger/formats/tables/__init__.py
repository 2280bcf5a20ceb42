"""Tables as files."""
