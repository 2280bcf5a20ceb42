"""Counting what was judged, and how sure the counts are."""
