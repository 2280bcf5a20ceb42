"""Ratios of speed and memory, each measured in one run: ``python -m benchmarks NAME``."""
