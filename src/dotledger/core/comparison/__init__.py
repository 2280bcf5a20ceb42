"""Comparing services, settings and dates."""
