"""Commands that send, and look at what was sent."""
