"""Images: gathering them, what their files say, and making them fit a service's limits."""
