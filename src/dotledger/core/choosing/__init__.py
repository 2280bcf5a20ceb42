"""Choosing on some images and judging on others."""
