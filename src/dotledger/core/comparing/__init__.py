"""Several services, settings or dates beside each other."""
