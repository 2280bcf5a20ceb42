"""Services: how a description says to call one, and how to read its answers."""
