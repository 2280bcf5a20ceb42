"""Attacks that count: each takes a seed and a size, and returns how many tries went wrong.

Small ones run as tests; ``python -m benchmarks faults`` runs them large and prints the counts.
"""
