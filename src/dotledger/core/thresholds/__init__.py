"""Choosing thresholds on some images and judging them on others."""
