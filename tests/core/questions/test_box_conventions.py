"""Which convention boxes have to be read by, from findings beside annotations."""

import unittest
from dataclasses import replace

import numpy as np

from dotledger import measure
from dotledger.core.questions.box_conventions import CONVENTIONS, ImageSize, check_conventions
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.findings_table import Findings
from tests.core.measurement.test_measure import annotations_of, findings_of


class Conventions(unittest.TestCase):
    SIZE = ImageSize(width=200, height=100, sent_width=100, sent_height=50, orientation=6)
    TRUE = ((20, 10, 60, 30), (100, 40, 130, 90))

    def best(self, boxes, true=TRUE):
        said = findings_of([("a", "object", "?", 0.5, box) for box in boxes])
        truth = annotations_of([("a", "object", "x", box, False) for box in true])
        return check_conventions(said, truth, {"a": self.SIZE})[0]

    def test_each_misreading_is_recognised(self):
        """Boxes read by a wrong convention fit best under the right one, worked by hand."""
        for misread, name in (
            (lambda x0, y0, x1, y1: (x0, y0, x1, y1), "as now"),
            (
                lambda x0, y0, x1, y1: (
                    (x0 + x1) / 2,
                    (y0 + y1) / 2,
                    (x0 + x1) / 2 + x1 - x0,
                    (y0 + y1) / 2 + y1 - y0,
                ),
                "centre and size, where a corner and size were read",
            ),
            (
                lambda x0, y0, x1, y1: (x0, y0, x0 + x1, y0 + y1),
                "corners, where a corner and size were read",
            ),
            (lambda x0, y0, x1, y1: (y0, x0, y1, x1), "x and y swapped, in pixels"),
            (
                lambda x0, y0, x1, y1: (y0 * 2, x0 / 2, y1 * 2, x1 / 2),
                "x and y swapped, in fractions",
            ),
            (
                lambda x0, y0, x1, y1: (x0, y0, x0 + y1 - y0, y0 + x1 - x0),
                "width and height swapped",
            ),
            (
                lambda x0, y0, x1, y1: (x0 / 2, y0 / 2, x1 / 2, y1 / 2),
                "pixels of the sent image, where the original's were read",
            ),
            (
                lambda x0, y0, x1, y1: (x0 * 100, y0 * 100, x1 * 100, y1 * 100),
                "percent, where fractions were read",
            ),
            (
                lambda x0, y0, x1, y1: (y0, 200 - x1, y1, 200 - x0),
                "boxes refer to the image before rotation",
            ),
            (
                lambda x0, y0, x1, y1: (y0 * 2, (200 - x1) / 2, y1 * 2, (200 - x0) / 2),
                "fractions of the image before rotation",
            ),
            (
                lambda x0, y0, x1, y1: (x0 * 6.4, y0 * 6.4, x1 * 6.4, y1 * 6.4),
                "pixels of a working size of 640 on the longer side",
            ),
            (
                lambda x0, y0, x1, y1: (
                    (3 * x0 - x1) / 2,
                    (3 * y0 - y1) / 2,
                    (x0 + x1) / 2,
                    (y0 + y1) / 2,
                ),
                "corner and size, where a centre and size were read",
            ),
            (
                lambda x0, y0, x1, y1: (x0 * 2, y0 * 2, x1 * 2, y1 * 2),
                "pixels of the original, where the sent image's were read",
            ),
            (
                lambda x0, y0, x1, y1: (x0 / 100, y0 / 100, x1 / 100, y1 / 100),
                "fractions, where percent were read",
            ),
            (
                lambda x0, y0, x1, y1: (x0 * 10, y0 * 10, x1 * 10, y1 * 10),
                "thousandths, where percent were read",
            ),
        ):
            fit = self.best([tuple(map(float, misread(*box))) for box in self.TRUE])
            self.assertEqual(fit.name, name)
            self.assertAlmostEqual(fit.mean_overlap, 1.0)
        self.assertGreater(len(CONVENTIONS), 12)

    def test_sizes_read_as_corners(self):
        """Near the corner of the image a size still looks like a corner."""
        true = ((5, 4, 60, 30), (10, 8, 130, 90))
        for misread, name in (
            (lambda x0, y0, x1, y1: (x0, y0, x1 - x0, y1 - y0), "corner and size"),
            (
                lambda x0, y0, x1, y1: ((x0 + x1) / 2, (y0 + y1) / 2, x1 - x0, y1 - y0),
                "centre and size",
            ),
        ):
            fit = self.best([misread(*map(float, box)) for box in true], true)
            self.assertEqual(fit.name, f"{name}, where corners were read")
            self.assertAlmostEqual(fit.mean_overlap, 1.0)

    def test_usual_working_sizes(self):
        """What services shrink to by habit is recognised by its own number."""
        for side in (224, 256, 320, 416, 512, 1024, 1280):
            scale = side / 200 * 2  # the sent image is half as large as the original
            boxes = [tuple(v * scale for v in box) for box in self.TRUE]
            name = f"pixels of a working size of {side} on the longer side"
            self.assertEqual(self.best(boxes).name, name)

    def test_of_turned_images_only(self):
        """A box before rotation is turned by its image's orientation: upside down, mirrored, lying."""
        true = annotations_of([("a", "object", "x", (20, 10, 60, 30), False)])
        for orientation, box in (
            (2, (140, 10, 180, 30)),
            (3, (140, 70, 180, 90)),
            (4, (20, 70, 60, 90)),
        ):
            size = ImageSize(
                width=200, height=100, sent_width=200, sent_height=100, orientation=orientation
            )
            said = findings_of([("a", "object", "?", 0.5, box)])
            [fit] = [
                f
                for f in check_conventions(said, true, {"a": size})
                if f.name == "boxes refer to the image before rotation"
            ]
            self.assertAlmostEqual(fit.mean_overlap, 1.0)

    def test_turned_twice(self):
        """Upright boxes turned once more, as if the image were stored as 100 x 200: right, and left."""
        true = annotations_of([("a", "object", "x", (20, 10, 60, 30), False)])
        for orientation, box in ((6, (170, 20, 190, 60)), (8, (10, 40, 30, 80))):
            size = ImageSize(
                width=200, height=100, sent_width=200, sent_height=100, orientation=orientation
            )
            said = findings_of([("a", "object", "?", 0.5, box)])
            [fit] = [
                f
                for f in check_conventions(said, true, {"a": size})
                if f.name == "boxes were rotated twice"
            ]
            self.assertAlmostEqual(fit.mean_overlap, 1.0, msg=orientation)

    def test_what_does_not_move_is_not_judged(self):
        """A convention that leaves an upright image's box where it is says nothing about it."""
        true = annotations_of([(n, "object", "x", (20, 10, 60, 30), False) for n in "ab"])
        said = findings_of(
            [
                ("a", "object", "?", 0.5, (170, 20, 190, 60)),
                ("b", "object", "?", 0.5, (20, 10, 40, 30)),
            ]
        )
        sizes = {
            n: ImageSize(width=200, height=100, sent_width=200, sent_height=100, orientation=o)
            for n, o in (("a", 6), ("b", 1))
        }
        [fit] = [
            f for f in check_conventions(said, true, sizes) if f.name == "boxes were rotated twice"
        ]
        self.assertEqual((fit.changed, round(fit.mean_overlap, 9)), (1, 1.0))

    def test_nothing_to_compare(self):
        """Without common images the mean overlap is undefined."""
        fits = check_conventions(Findings.empty(), annotations_of([]), {})
        self.assertTrue(np.isnan(fits[0].mean_overlap))


def centred(b):
    """What a box becomes whose centre and size are read as corner and size."""
    wide, high = b[2] - b[0], b[3] - b[1]
    return b[0] + wide / 2, b[1] + high / 2, b[2] + wide / 2, b[3] + high / 2


class BesideMeasuring(unittest.TestCase):
    """Wherever there are annotations, boxes that are read wrongly are named, and right ones are not."""

    def tables(self, change=lambda box: box):
        rng = np.random.default_rng(4)
        rows, true = [], []
        for n in range(40):
            x, y, wide, high = rng.uniform((20, 30, 40, 20), (400, 200, 160, 90))
            box = (x, y, x + wide, y + high)
            true.append((f"i{n}", "object", "x", box, False))
            rows.append(
                (
                    f"i{n}",
                    "object",
                    "x",
                    float(rng.uniform(0.4, 1)),
                    change(np.add(box, rng.normal(0, 2, 4))),
                )
            )
        sizes = {f"i{n}": {"width": 800.0, "height": 600.0} for n in range(40)}
        return findings_of([(*r[:4], tuple(map(float, r[4]))) for r in rows]), replace(
            annotations_of(true), images=sizes
        )

    def notes(self, change=lambda box: box, sized=True):
        found, true = self.tables(change)
        return " ".join(measure(found, true if sized else replace(true, images={}), draws=0).notes)

    def test_wrong_conventions_are_named(self):
        """With the line of the description that mends it; also where no size is known."""
        for change, sized, wanted in (
            (centred, True, 'centre and size, where a corner and size were read: .*form = "centre.size"'),
            (lambda b: (b[1], b[0], b[3], b[2]), True, "x and y swapped, in pixels"),
            (lambda b: (b[1], b[0], b[3], b[2]), False, "x and y swapped"),
            (lambda b: np.array(b) / 100, True, "fractions, where percent were read: .*unit = .fraction"),
        ):  # fmt: skip
            with self.subTest(wanted=wanted, sized=sized):
                self.assertRegex(
                    self.notes(change, sized),
                    f"Suspicious: boxes fit the annotations better read as {wanted}",
                )

    def test_right_ones_are_not(self):
        """Nor loose ones, nor few, nor none."""
        self.assertNotIn("Suspicious", self.notes())
        self.assertNotIn("Suspicious", self.notes(sized=False))
        self.assertNotIn("Suspicious", self.notes(lambda b: np.add(b, (-8, -6, 9, 8))))
        self.assertNotIn("Suspicious", self.notes(lambda b: np.add(b, 900.0)))

    def test_confidences_that_pile_up(self):
        """At 0, in the middle and at 1; not where a service says words, nor where they are few."""
        for value, others, wanted in ((0.0, 0.4, "exactly 0: another scale"), (0.5, 0.9, "exactly 0.5: the middle"), (1.0, 1.0, "exactly 1: ")):  # fmt: skip
            rows = [(f"i{n}", "label", "x", value if n % 2 else others, None) for n in range(40)]
            true = annotations_of([(f"i{n}", "label", "x", None, False) for n in range(40)])
            self.assertIn(wanted, " ".join(measure(findings_of(rows), true, draws=0).notes))
            self.assertNotIn(
                "exactly", " ".join(measure(findings_of(rows[:9]), true, draws=0).notes)
            )
            worded = replace(
                findings_of(rows), details=tuple(Details(own_confidence="likely") for _ in rows)
            )
            self.assertNotIn("exactly", " ".join(measure(worded, true, draws=0).notes))
