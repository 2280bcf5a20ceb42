"""Near-copies of known images, found by image fingerprints."""
