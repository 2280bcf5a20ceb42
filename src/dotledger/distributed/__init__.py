"""Measuring tables that are too large for one machine, part by part."""
