"""Croissant: the description of an annotated set of images, read and written.

Version 1.0 of the format (http://mlcommons.org/croissant/1.0): JSON-LD that names files, and record
sets whose fields say where in the files each value is. Only what lies next to the description is
read: nothing is fetched, and no path leads out of its folder.
"""
