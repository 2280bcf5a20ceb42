"""Boxes: overlap, ways of writing them, from the sent image to the original."""
