"""Near-copies of known images, told by prints of what they look like."""
