"""Showing results: boxes on images, contact sheets, tables for a terminal."""
