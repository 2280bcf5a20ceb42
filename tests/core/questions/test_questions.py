"""Everything that can be asked of a measure, against hand-worked cases and the slow reference."""

import json
import math
import unittest

from dotledger import measure
from dotledger.core.questions.attribute_judging import judge_attribute
from dotledger.core.questions.text_lines import edits, measure_text
from dotledger.core.tables.finding_details import Details
from dotledger.errors import ArgumentError
from tests import reference
from tests.core.measurement.test_measure import annotations_of, as_tables, findings_of, random_case

BOX = (0, 0, 10, 10)
FAR = (50, 0, 60, 10)


def with_details(table, details):
    from dataclasses import replace

    return replace(table, details=tuple(details))


def cases(seeds, kind="object"):
    """Yield seeds, rows and tables of random cases that can be measured."""
    for seed in seeds:
        found, true = random_case(seed, kind)
        if {f["image"] for f in found} & {a["image"] for a in true}:
            yield seed, found, true, as_tables(found, true, kind)


class Several(unittest.TestCase):
    def test_several_overlaps_and_thresholds(self):
        """Each pair of overlap and threshold has the measures it would have alone."""
        for seed, _, _, tables in cases(range(60)):
            overlaps, thresholds = (0.5, 0.3, 0.75), (0.5, 0.2)
            kind = measure(*tables, overlap=overlaps, threshold=thresholds, draws=0).kinds["object"]
            means = []
            for point in kind.points:
                alone = measure(
                    *tables, overlap=point.overlap, threshold=point.threshold, draws=0
                ).kinds["object"]
                self.assertEqual(point.pooled.to_dict(), alone.pooled.to_dict(), seed)
                self.assertEqual(
                    [r.to_dict() for r in point.rows.values()],
                    [r.to_dict() for r in alone.rows.values()],
                )
                if point.threshold == 0.5:
                    means.append(alone.mean_over_labels["average_precision"])
            self.assertEqual(len(kind.points), 6)
            mean = sum(means) / 3
            if math.isnan(mean):
                self.assertTrue(math.isnan(kind.mean_ap))
            else:
                self.assertAlmostEqual(kind.mean_ap, mean)

    def test_thresholds_by_label_and_word(self):
        """A label, a kind and a word of the service's own scale each set their threshold."""
        said = findings_of(
            [("a", "object", "x", 0.6, BOX), ("a", "object", "y", 0.6, BOX), ("a", "unsafe", "smoke", 0.7, None)]
        )  # fmt: skip
        said = with_details(said, [None, None, Details(own_confidence="Likely")])
        true = annotations_of(
            [("a", "object", "x", BOX, False), ("a", "object", "y", BOX, False), ("a", "unsafe", "smoke", None, False)]
        )  # fmt: skip

        def found(threshold):
            labels = measure(said, true, threshold=threshold, draws=0).labels
            return tuple(labels[n].true_positives for n in ("x", "y", "smoke"))

        self.assertEqual(found(None), (1, 1, 1))
        self.assertEqual(found({"x": 0.7}), (0, 1, 1))
        self.assertEqual(found({"object": 0.7, "object:y": 0.5}), (0, 1, 1))
        self.assertEqual(found("likely"), (0, 0, 1))
        self.assertEqual(found({"unsafe": "LIKELY", "x": 0.1}), (1, 1, 1))
        measure(findings_of([]), true, threshold={"x": 0.5}, draws=0)
        result = measure(said, true, threshold="plain", words={"Plain": 0.9}, draws=0)
        self.assertEqual((result.threshold, result.pooled.true_positives), (0.9, 0))
        for bad, sign in (("perhaps", "likely"), ({"lamp": 0.5}, "label 'lamp'.*caption, colour, fact, x, y, smoke$"), ({"x": 2}, "0 to 1")):  # fmt: skip
            with self.assertRaisesRegex(ArgumentError, sign):
                measure(said, true, threshold=bad)


class Curves(unittest.TestCase):
    def test_curve(self):
        """Right, wrong and right at three confidences; it stops at the floor."""
        said = findings_of(
            [("a", "face", "f", 0.9, BOX), ("a", "face", "f", 0.8, (90, 0, 99, 9)), ("a", "face", "f", 0.7, FAR)]
        )  # fmt: skip
        true = annotations_of([("a", "face", "f", b, False) for b in (BOX, FAR)])
        curve = measure(said, true).curve("face", "f")
        self.assertEqual(curve["confidence"].tolist(), [0.9, 0.8, 0.7])
        self.assertEqual(curve["precision"].tolist(), [1.0, 0.5, 2 / 3])
        self.assertEqual(curve["recall"].tolist(), [0.5, 0.5, 1.0])
        self.assertEqual(curve["f1"].tolist(), [2 / 3, 0.5, 0.8])
        self.assertEqual(curve["misses"].tolist(), [1, 1, 0])
        floored = measure(said, true, floor=0.75)
        self.assertEqual(len(floored.curve()), 2)
        with self.assertRaisesRegex(ArgumentError, "floor"):
            measure(said, true, floor=0.75, threshold=0.5)
        with self.assertRaisesRegex(ArgumentError, "not measured"):
            floored.curve("object")
        with self.assertRaisesRegex(ArgumentError, "pairing"):
            measure(said, true, pairing="total-overlap").curve("face")

    def test_curve_against_thresholds(self):
        """At each of its confidences the curve has the counts of a measure at that threshold."""
        for _, _, _, tables in cases(range(40)):
            result = measure(*tables, draws=0)
            for row in result.curve("object").itertuples():
                if math.isfinite(row.confidence):
                    pooled = measure(*tables, threshold=row.confidence, draws=0).pooled
                    self.assertEqual(
                        (row.true_positives, row.false_positives, row.misses),
                        (pooled.true_positives, pooled.false_positives, pooled.misses),
                    )


class Counts(unittest.TestCase):
    def test_count_agreement(self):
        """Errors by image agree with the reference."""
        for seed, found, true, tables in cases(range(150)):
            wanted = reference.count_errors(found, true, 0.5, 0.5)
            got = measure(*tables, threshold=0.5, draws=0).counts()["object"].rows
            for label, errors in wanted.items():
                row = got[label]
                self.assertAlmostEqual(row.mean_error, sum(errors) / len(errors), msg=seed)
                absolute = sum(map(abs, errors)) / len(errors)
                self.assertAlmostEqual(row.mean_absolute_error, absolute)
                self.assertEqual(row.images_equal, errors.count(0))

    def test_screening(self):
        """The four counts by image agree with the reference; any category stops an image."""
        for seed, found, true, tables in cases(range(200), "unsafe"):
            by = measure(*tables, threshold=0.5, draws=0).screening()
            got = (by.caught, by.let_through, by.false_alarms, by.rightly_passed)
            self.assertEqual(got, reference.screening(found, true, 0.5), seed)
        said = findings_of(
            [(n, "unsafe", what, 0.9, None) for n, what in zip("abcd", ("odd", "smoke", "x", "x"))]
        )
        rows = [("a", "smoke", False), ("b", "", False), ("c", "smoke", True), ("d", "", False)]
        truth = annotations_of([(n, "unsafe", what, None, g) for n, what, g in rows])
        by = measure(said, truth, threshold=0.5).screening()
        self.assertEqual(
            (by.caught, by.let_through, by.false_alarms, by.rightly_passed, by.left_out),
            (1, 0, 2, 0, 1),
        )
        self.assertEqual(by.frame().loc[0, "stopped_share"], 1.0)

    def test_images(self):
        """Counts by image add up to the pooled ones, unanswered images on request too."""
        for _, _, _, tables in cases(range(60)):
            result = measure(*tables, count_unanswered=True, draws=0)
            frame, pooled = result.images(), result.pooled
            sums = frame[["annotated", "true_positives", "false_positives", "misses"]].sum()
            self.assertEqual(
                sums.tolist(),
                [pooled.annotated, pooled.true_positives, pooled.false_positives, pooled.misses],
            )
            answered = set(tables[0].image.used())
            self.assertEqual(
                frame["answered"].tolist(), [image in answered for image in frame["image"]]
            )


class DetailsOfPairs(unittest.TestCase):
    def test_attributes_points_and_names(self):
        """Two faces: one all right, one a little off; each detail has its own count."""
        said = findings_of([("a", "face", "face", 0.9, BOX), ("a", "face", "face", 0.8, FAR)])
        said = with_details(
            said,
            [
                Details(
                    attributes={"glasses": True, "age": {"low": 20, "high": 30}, "tilt": 3.0, "name": {"name": "ADA  Ro"}},
                    points={"nose": (5.0, 5.0)},
                ),
                Details(attributes={"glasses": False, "tilt": 9.0}, points={"nose": (58.0, 9.0)}),
            ],
        )  # fmt: skip
        true = annotations_of([("a", "face", "face", b, False) for b in (BOX, FAR)])
        true = with_details(
            true,
            [
                Details(
                    attributes={"glasses": "yes", "age": 25, "tilt": 1, "name": "Ada Ro"},
                    points={"nose": (5.0, 5.0)},
                ),
                Details(
                    attributes={"glasses": True, "tilt": 1, "name": "Bo"},
                    points={"nose": (55.0, 5.0), "chin": (55.0, 9.0)},
                ),
            ],
        )
        found = measure(said, true).details(tolerances={"tilt": 2})["face"]
        rows = {n: (r.judged, r.pairs, r.right) for n, r in found.attributes.items()}
        self.assertEqual(
            rows, {"age": ("range", 1, 1), "glasses": ("exact", 2, 1), "tilt": ("tolerance", 2, 1)}
        )
        self.assertEqual(found.attributes["tilt"].mean_absolute_error, 5.0)
        self.assertAlmostEqual(found.points["nose"].mean_distance, (0 + 5 / math.sqrt(200)) / 2)
        self.assertEqual((found.names.right, found.names.wrong, found.names.no_name), (1, 0, 1))
        last = found.frame().iloc[-1]
        self.assertEqual((last["what"], last["pairs"], last["right"]), ("name", 2, 1))
        self.assertEqual(last["share_right"], 0.5)

    def test_attribute_forms(self):
        """A value with a unit or confidence, a leading share, and what cannot be compared."""
        self.assertEqual(
            judge_attribute({"value": 4, "unit": "px"}, 4.5, 1)[:2], ("tolerance", True)
        )
        self.assertEqual(judge_attribute({"leading": "calm"}, "Calm", 0)[:2], ("exact", True))
        self.assertIsNone(judge_attribute({"low": 1, "high": 2}, "old", 0))

    def test_text(self):
        """Lines with boxes pair by place, others by what reads most alike."""
        said = findings_of(
            [("a", "text", "LANTERN  1", 0.9, BOX), ("a", "text", "open", 0.9, FAR), ("b", "text", "tea 20", 0.9, None), ("b", "text", "soup", 0.9, None)]
        )  # fmt: skip
        true = annotations_of(
            [("a", "text", "LANTERN 1", BOX, False), ("b", "text", "tea 28", None, False), ("b", "text", "no", None, True)]
        )  # fmt: skip
        found = measure_text(said, true)
        self.assertEqual((found.annotated, found.paired, found.exact), (2, 2, 1))
        self.assertEqual((found.missed, found.wrong, found.edits, found.characters), (0, 2, 1, 15))
        self.assertAlmostEqual(found.character_error_rate, 1 / 15)
        self.assertEqual([edits("kitten", "sitting"), edits("", "ab"), edits("a", "a")], [3, 2, 0])
        with_objects = annotations_of(
            [("a", "text", "LANTERN 1", BOX, False), ("a", "object", "x", BOX, False)]
        )
        self.assertEqual(measure(said, with_objects).text().exact, 1)


class Forms(unittest.TestCase):
    def test_everything_is_plain(self):
        """Everything a measure knows goes into JSON as it is; undefined is null."""
        said = findings_of([("a", "object", "x", None, BOX), ("a", "unsafe", "smoke", 0.5, None)])
        true = annotations_of(
            [("a", "object", "x", BOX, False), ("a", "object", "y", FAR, False), ("a", "unsafe", "smoke", None, True)]
        )  # fmt: skip
        plain = measure(said, true).to_dict(everything=True)
        text = json.dumps(plain, allow_nan=False)
        self.assertIsNone(json.loads(text)["kinds"]["object"]["labels"]["y"]["precision"])
        self.assertEqual(plain["reasons"]["missed"][0]["reason"], "not seen")
        self.assertEqual(plain["screening"]["left_out"], 1)
        self.assertEqual(set(plain["slices"]), {"size", "crowding", "edge"})

    def test_frame_and_notebook(self):
        """The frame has the intervals' ends; the notebook's table shows names as text."""
        said = findings_of([(i, "object", "<b>x</b>", 0.9, BOX) for i in "ab"])
        true = annotations_of([(i, "object", "<b>x</b>", BOX, False) for i in "ab"])
        result = measure(said, true)
        # Two of two in two images: 1 / (1 + t^2 / 2) with t = 12.706.
        self.assertAlmostEqual(result.frame()["recall_low"][0], 0.1581, places=4)
        page = result._repr_html_()
        self.assertIn("&lt;b&gt;x", page)
        self.assertNotIn("<b>x", page)
        several = measure(said, true, overlap=(0.5, 0.9)).frame()
        self.assertEqual(several["overlap"].tolist(), [0.5, 0.9])
