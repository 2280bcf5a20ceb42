"""Pure decisions: what to send, when, and what to do next."""
