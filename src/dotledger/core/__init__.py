"""The core: what every number means. NumPy and SciPy only; no files, no clock, no interface."""
