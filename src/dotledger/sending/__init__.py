"""Sending batches: pacing, trying again, and writing every answer down."""
