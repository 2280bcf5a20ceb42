"""Boxes: overlap, clipping, orientation."""

import unittest

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from PIL import Image, ImageOps

from dotledger import overlap
from dotledger.core.boxes.box_forms import clip, enclosing, turn_upright, upright_size
from dotledger.errors import ArgumentError
from tests import reference

whole_boxes = st.tuples(*[st.integers(0, 50)] * 2, *[st.integers(1, 30)] * 2).map(
    lambda b: (b[0], b[1], b[0] + b[2], b[1] + b[3])
)


class Overlap(unittest.TestCase):
    @settings(deadline=None, suppress_health_check=[HealthCheck.too_slow])  # machines may be busy
    @given(whole_boxes, whole_boxes)
    def test_against_fractions(self, a, b):
        """The overlap is the correctly rounded fraction, and symmetric."""
        self.assertEqual(float(overlap(a, b)), float(reference.overlap(a, b)))
        self.assertEqual(overlap(a, b), overlap(b, a))

    def test_touching_is_zero(self):
        """Boxes that only touch do not overlap."""
        self.assertEqual(overlap((0, 0, 2, 2), (2, 0, 4, 2)), 0)

    def test_broadcasts(self):
        """Leading shapes broadcast, and a wrong last axis is refused."""
        grid = overlap(np.zeros((3, 1, 4)) + (0, 0, 2, 2), [[0, 0, 2, 2], [0, 0, 1, 2]])
        np.testing.assert_array_equal(grid, [[1, 0.5]] * 3)
        with self.assertRaisesRegex(ArgumentError, "last axis"):
            overlap([1, 2, 3], [1, 2, 3, 4])


class Clip(unittest.TestCase):
    def test_every_case(self):
        """Inside stays, over the edge is clipped, the rest is refused with its reason."""
        cases = [
            ((1, 1, 2, 2), ((1, 1, 2, 2), "")),
            ((-1, 1, 12, 2), ((0, 1, 10, 2), "clipped")),
            ((3, 3, 3, 5), (None, "no area")),
            ((5, 5, 4, 6), (None, "no area")),
            ((10, 0, 12, 5), (None, "outside the image")),
            ((float("nan"), 0, 1, 1), (None, "not finite")),
            ((0, 0, float("inf"), 1), (None, "not finite")),
        ]
        for box, wanted in cases:
            self.assertEqual(clip(box, 10, 8), wanted, box)


class Orientation(unittest.TestCase):
    def test_agrees_with_the_decoder(self):
        """A marked pixel lands where Pillow's own turning puts it, for all eight values."""
        for orientation in range(1, 9):
            stored = Image.new("L", (5, 3))
            stored.putpixel((1, 2), 255)
            exif = Image.Exif()
            exif[0x0112] = orientation
            stored.getexif()[0x0112] = orientation
            turned = ImageOps.exif_transpose(stored)
            [(x, y)] = turn_upright([(1.5, 2.5)], 5, 3, orientation)
            self.assertEqual(turned.getpixel((int(x), int(y))), 255, orientation)
            self.assertEqual(turned.size, upright_size(5, 3, orientation))

    def test_enclosing(self):
        """The enclosing box of nothing holds NaN."""
        self.assertEqual(enclosing([(1, 5), (4, 2)]), (1, 2, 4, 5))
        self.assertTrue(np.isnan(enclosing([])).all())
