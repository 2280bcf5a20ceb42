"""Pairing findings with annotations, and judging what is right."""
