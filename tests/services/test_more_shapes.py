"""Shapes that are read next to the usual ones: tables, turned boxes, masks, flat points, lists of one."""

import math
import unittest

import numpy as np

from dotledger.core.boxes.image_frames import Frame
from dotledger.errors import DescriptionError
from tests.services.test_answer_reading import OBJECT
from tests.services.test_answer_reading import read as read_any

SQUARE = Frame(200, 100, 200, 100, 1)


def read(rule, answer, frame=SQUARE):
    """As sent: pixels of the answer are those of the original."""
    return read_any(rule, answer, frame=frame)


def boxes(rule, answer, **options):
    return [
        tuple(round(side, 3) for side in one.box) for one in read(rule, answer, **options).found
    ]


class Turned(unittest.TestCase):
    def test_worked(self):
        """A box of 40 x 20 about (100, 50): upright, by a quarter turn, by 30 degrees, in radians."""
        half = (
            20 * math.cos(math.pi / 6) + 10 * math.sin(math.pi / 6),
            20 * math.sin(math.pi / 6) + 10 * math.cos(math.pi / 6),
        )
        around = tuple(
            round(side, 3) for side in (100 - half[0], 50 - half[1], 100 + half[0], 50 + half[1])
        )
        for turn, more, wanted in (
            (0, "", (80, 40, 120, 60)), (90, "", (90, 30, 110, 70)), (30, "", around), (-30, "", around), (math.pi / 6, ', angle_in = "radians"', around),
        ):  # fmt: skip
            rule = (
                OBJECT
                + f'box = {{ at = "b", form = "centre+size", order = ["cx", "cy", "width", "height"], angle = "turn"{more} }}\n'
            )
            answer = {"things": [{"what": "mat", "b": [100, 50, 40, 20], "turn": turn}]}
            [found] = read(rule, answer, SQUARE).found
            self.assertEqual(tuple(round(side, 3) for side in found.box), wanted)
            self.assertEqual(len(found.details.polygon), 4)
        first = {}
        for way in ("clockwise", "anticlockwise"):
            rule = (
                OBJECT
                + f'box = {{ at = "b", form = "centre+size", order = ["cx", "cy", "width", "height"], angle = "turn", turns = "{way}" }}\n'
            )
            [found] = read(
                rule, {"things": [{"what": "mat", "b": [100, 50, 40, 20], "turn": 30}]}, SQUARE
            ).found
            first[way] = found.details.polygon[0]
        # The corner that was at the top left, (-20, -10) from the middle, by the rotation itself.
        x, y = (
            -20 * math.cos(math.pi / 6) + 10 * math.sin(math.pi / 6),
            -20 * math.sin(math.pi / 6) - 10 * math.cos(math.pi / 6),
        )
        np.testing.assert_allclose(first["clockwise"], (100 + x, 50 + y))
        self.assertNotAlmostEqual(first["anticlockwise"][1], 50 + y)

    def test_refused(self):
        """No area, no number; and an angle where no box is turned."""
        rule = (
            OBJECT
            + 'box = { at = "b", form = "centre+size", order = ["cx", "cy", "width", "height"], angle = "turn" }\n'
        )
        for box, turn in (([100, 50, 0, 20], 1), ([100, 50, 40, 20], "steep"), ([1, 2], 3)):
            reading = read(rule, {"things": [{"what": "mat", "b": box, "turn": turn}]})
            self.assertEqual((len(reading.found), len(reading.notes)), (0, 1))
        with self.assertRaisesRegex(DescriptionError, "centre"):
            read(
                OBJECT + 'box = { at = "b", order = ["x0", "y0", "x1", "y1"], angle = "turn" }\n',
                {},
            )


class Masks(unittest.TestCase):
    def runs(self, mask, lines):
        flat = (mask.T if lines == "columns" else mask).ravel()
        counts, state = [], 0
        for value in flat:
            if value != state:
                counts.append(0)
                state = value
            elif not counts:
                counts.append(0)
            counts[-1] += 1
        if flat[0]:
            counts.insert(0, 0)
        return {"size": list(mask.shape), "counts": counts}

    def test_box_around(self):
        """The box around 200 random masks, by columns and by rows, against NumPy's own."""
        rng = np.random.default_rng(4)
        for lines in ("columns", "rows"):
            rule = OBJECT + f'box = {{ at = "m", form = "runs", lines = "{lines}" }}\n'
            for _ in range(100):
                mask = (rng.random((10, 14)) < rng.choice([0.02, 0.2, 0.9])).astype(int)
                mask[rng.integers(10), rng.integers(14)] = 1
                ys, xs = np.nonzero(mask)
                wanted = (xs.min(), ys.min(), xs.max() + 1, ys.max() + 1)
                answer = {"things": [{"what": "x", "m": self.runs(mask, lines)}]}
                self.assertEqual(boxes(rule, answer, frame=Frame(14, 10, 14, 10, 1)), [wanted])

    def test_refused(self):
        """Empty, of another size, negative, or no mask: set aside with the reason."""
        rule = OBJECT + 'box = { at = "m", form = "runs" }\n'
        for mask, words in (
            ({"size": [4, 4], "counts": [16]}, "empty"), ({"size": [4, 4], "counts": [0, 99]}, "do not fit"), ({"size": [4, 4], "counts": [1, -1]}, "do not fit"),
            ({"counts": [1]}, "not a mask"), ("PPYo0", "not a mask"),
        ):  # fmt: skip
            [note] = read(rule, {"things": [{"what": "x", "m": mask}]}).notes
            self.assertIn(words, note[0])


class Polygons(unittest.TestCase):
    def test_rings_and_flat_lists(self):
        """Of several rings the box is around all, the largest the outline; flat lists are points."""
        rule = OBJECT + 'box = { at = "p", form = "points" }\n'
        hole, outer = [[20, 20], [30, 20], [30, 30]], [[10, 10], [60, 10], [60, 50], [10, 50]]
        for raw in ([outer, hole], [hole, outer], [10, 10, 60, 10, 60, 50, 10, 50]):
            [found] = read(rule, {"things": [{"what": "x", "p": raw}]}).found
            self.assertEqual((found.box, len(found.details.polygon)), ((10, 10, 60, 50), 4))
        apart = [[80, 10], [90, 10], [90, 20]]
        [found] = read(rule, {"things": [{"what": "x", "p": [outer, apart]}]}).found
        self.assertEqual((found.box, len(found.details.polygon)), ((10, 10, 90, 50), 4))


class Tables(unittest.TestCase):
    def test_rows_with_a_header(self):
        """Columns named elsewhere, or by the first row; a row of another length is set aside."""
        rule = 'kind = "object"\neach = "t.rows[]"\nlabel = "what"\ncolumns = "{}"\nconfidence = {{ at = "sure" }}\nbox = {{ at = "@", fields = {{ x0 = "l", y0 = "t", x1 = "r", y1 = "b" }} }}\n'
        names, row = ["what", "sure", "l", "t", "r", "b"], ["bell", 0.5, 1, 2, 30, 40]
        for at, table in (("t.names", {"names": names, "rows": [row, row[:3]]}), ("t.rows[0]", {"rows": [names, row, row[:3]]})):  # fmt: skip
            reading = read(rule.format(at), {"t": table})
            self.assertEqual(
                [(f.label, f.confidence, f.box) for f in reading.found],
                [("bell", 0.5, (1, 2, 30, 40))],
            )
            self.assertEqual(len(reading.notes), 1)
        lost = read(rule.format("t.head"), {"t": {"rows": [row]}})
        self.assertIn("columns", lost.unread["object"])

    def test_values_with_another_to_fall_back_on(self):
        """JMESPath wherever a path stands: this or that, a constant, a choice by another field."""
        rule = (
            OBJECT.replace('"what"', '"name || title"')
            + 'confidence = { at = "score || prob || `0.5`" }\nbox = { at = "b", order = ["x0", "y0", "x1", "y1"] }\n'
        )
        things = [{"name": "a", "score": 0.9}, {"title": "b", "prob": 0.4}, {"name": "c"}]
        found = read(rule, {"things": [{**one, "b": [1, 1, 9, 9]} for one in things]}).found
        self.assertEqual(
            [(f.label, f.confidence) for f in found], [("a", 0.9), ("b", 0.4), ("c", 0.5)]
        )

    def test_a_list_of_one(self):
        """One thing instead of a list, also deep inside; an object of things stays unread."""
        rule = 'kind = "label"\neach = "a.b[].c[]"\nlabel = "n"\n'
        one = {"n": "x"}
        for answer in ({"a": {"b": [{"c": [one]}]}}, {"a": {"b": {"c": one}}}, {"a": {"b": [{"c": one}]}}):  # fmt: skip
            self.assertEqual([f.label for f in read(rule, answer).found], ["x"])
        mapping = read(rule, {"a": {"b": {"c": {"first": one, "second": one}}}})
        self.assertEqual(mapping.found, [])
        self.assertIn("set aside", mapping.unread["label"])


class FlatPoints(unittest.TestCase):
    def test_in_order(self):
        """Points in one list by the order of their names; with a third number, those that are there."""
        rule = 'kind = "face"\neach = "f[]"\nalways = "face"\nbox = { at = "b", order = ["x0", "y0", "x1", "y1"] }\npoints = { at = "p", order = ["left eye", "nose"], step = STEP }\n'
        for step, raw, wanted in (("2", [3, 4, 5, 6], {"left eye": (3, 4), "nose": (5, 6)}), ("3", [3, 4, 2, 0, 0, 0], {"left eye": (3, 4)})):  # fmt: skip
            [found] = read(rule.replace("STEP", step), {"f": [{"b": [1, 1, 9, 9], "p": raw}]}).found
            self.assertEqual(dict(found.details.points), wanted)
        reading = read(rule.replace("STEP", "2"), {"f": [{"b": [1, 1, 9, 9], "p": [1, 2, 3]}]})
        self.assertEqual(len(reading.found), 1)
        self.assertIn("not 4 numbers", reading.notes[0][0])


class Edges(unittest.TestCase):
    def test_on_different_levels(self):
        """Sides that stand with the thing, inside it, and with the row that it lies in."""
        rows = [
            {
                "top": "20 px",
                "span": {"bottom": 60},
                "things": [{"what": "mat", "edge": {"l": 10}, "r": 90}],
            }
        ]
        each = OBJECT.replace('"things[]"', '"rows[].things[]"')
        for at, inner in (("@", ("edge.l", "r", "^top", "^span.bottom")), ("edge", ("l", "^r", "^^top", "^^span.bottom"))):  # fmt: skip
            x0, x1, y0, y1 = inner
            rule = (
                each
                + f'box = {{ at = "{at}", fields = {{ x0 = "{x0}", x1 = "{x1}", y0 = "{y0}", y1 = "{y1}" }} }}\n'
            )
            self.assertEqual(boxes(rule, {"rows": rows}), [(10, 20, 90, 60)])

    def test_numbers_with_units(self):
        """A unit is taken off; any other word makes it no number, and the thing is set aside."""
        rule = OBJECT + 'box = { at = "b", order = ["x0", "y0", "x1", "y1"] }\n'
        self.assertEqual(
            boxes(rule, {"things": [{"what": "mat", "b": ["10px", "20 px", " 90 pixels", "60"]}]}),
            [(10, 20, 90, 60)],
        )
        for odd in ("3F", "12 mats", "px", "1 px 2"):
            reading = read(rule, {"things": [{"what": "mat", "b": [odd, 20, 90, 60]}]})
            self.assertEqual((reading.found, reading.notes[0][0]), ([], "not a number"))
