"""Boxes on images."""
