"""Slices: hand-worked ones, and that slices add up to the whole."""

import math
import unittest

import dotledger
from dotledger import measure
from dotledger.core.tables.finding_details import Details
from dotledger.errors import ArgumentError
from tests.core.measurement.test_measure import annotations_of, as_tables, findings_of, random_case
from tests.core.questions.test_questions import with_details


class HandWorked(unittest.TestCase):
    def setUp(self):
        """Two images of 100 by 100: a small lantern found, a large one missed, one wrong."""
        said = findings_of(
            [("a", "object", "x", 0.9, (10, 10, 15, 15)), ("b", "object", "x", 0.9, (0, 50, 40, 90))]
        )  # fmt: skip
        true = annotations_of(
            [("a", "object", "x", (10, 10, 15, 15), False), ("b", "object", "x", (60, 50, 100, 90), False)]
        )  # fmt: skip
        from dotledger.core.tables.finding_details import Details

        true = with_details(true, [Details(attributes={"look": "round"}), Details()])
        facts = {
            "a": {"width": 100, "height": 100, "light": "dusk", "lux": 5},
            "b": {"width": 100, "height": 100, "lux": 90},
        }
        self.result = measure(said, true.with_images(facts))

    def rows(self, name, **more):
        found = self.result.by(name, **more)["object"].rows
        return {n: (r.annotated, r.misses, r.false_positives) for n, r in found.items()}

    def test_size(self):
        """By share of the image's area, with edges of one's own too."""
        self.assertEqual(self.rows("size"), {"0.1 % to 1 %": (1, 0, 0), "10 % and more": (1, 1, 1)})
        self.assertEqual(
            self.rows("size", edges=(0.5,)), {"under 50 %": (2, 1, 1)}
        )  # both shares lie under a half

    def test_edge(self):
        """A box within a pixel of the edge touches it, findings by their own box."""
        self.assertEqual(
            self.rows("edge"), {"away from the edge": (1, 0, 0), "at the edge": (1, 1, 1)}
        )

    def test_columns(self):
        """Columns of images go with findings too; those of annotations leave precision undefined."""
        self.assertEqual(self.rows("light"), {"dusk": (1, 0, 0), "not known": (1, 1, 1)})
        self.assertEqual(
            self.rows("lux", edges=(50,)), {"under 50": (1, 0, 0), "50 and more": (1, 1, 1)}
        )
        look = self.result.by("look")["object"]
        self.assertFalse(look.judges_wrong)
        plain = look.to_dict()["slices"]["round"]
        self.assertEqual((plain["recall"], plain["precision"]), (1.0, None))

    def test_attributes_of_findings(self):
        """Precision by what the service says itself; nothing is said of what it missed."""
        faces = [("a", 0.9, 0), ("b", 0.8, 0), ("c", 0.7, 50), ("d", 0.6, 50), ("e", 0.5, 0)]
        table = findings_of([(n, "face", "face", c, (x, 0, x + 9, 9)) for n, c, x in faces])
        told = [
            {"mood": "calm", "age": 10.0, "worn": {"list": ["hat", "scarf"]}},
            {"mood": "calm", "age": 30.0, "worn": {"list": ["hat"]}},
            {"mood": "calm", "age": 50.0, "worn": {"list": []}},
            {"mood": "glad", "age": 17.9, "name": "Old Reed"},
            {},
        ]
        table = with_details(table, [Details(attributes=one) for one in told])
        true = annotations_of(
            [(n, "face", "face", (0, 0, 9, 9), False) for n in "abcdef"]
            + [("0", "face", "face", (0, 0, 9, 9), True)]
        )
        result = measure(table, true, count_unanswered=True, threshold=0.55)
        self.assertEqual(
            result.finding_slice_names(),
            ["found.age", "found.mood", "found.name", "found.person", "found.similarity"]
            + ["found.worn=hat", "found.worn=scarf"],
        )
        self.assertNotIn("found.mood", result.slice_names())
        for name, edges, right, wrong in (
            ("mood", None, {"calm": 2, "glad": 0}, {"calm": 1, "glad": 1}),
            ("age", (18,), {"under 18": 1, "18 and more": 1}, {"under 18": 1, "18 and more": 1}),
            (
                "worn=hat",
                None,
                {"with": 2, "without": 0, "not known": 0},
                {"with": 0, "without": 1, "not known": 1},
            ),
            ("person", None, {"Old Reed": 0, "not known": 2}, {"Old Reed": 1, "not known": 1}),
        ):
            with self.subTest(name):
                found = result.by(f"found.{name}", edges=edges)["face"]
                self.assertEqual({n: r.true_positives for n, r in found.rows.items()}, right)
                self.assertEqual({n: r.false_positives for n, r in found.rows.items()}, wrong)
                plain = found.to_dict()["slices"]
                self.assertEqual({one["recall"] for one in plain.values()}, {None})
                self.assertEqual({one["misses"] for one in plain.values()}, {None})
        calm = result.by("found.mood")["face"].to_dict()["slices"]["calm"]
        self.assertAlmostEqual(calm["precision"], 2 / 3)
        self.assertIsNotNone(calm["intervals"]["precision"])
        with self.assertRaisesRegex(ArgumentError, "nothing to slice by.*found.age"):
            result.by("found.aeg")

    def test_many_numbers(self):
        """A column of numbers has a slice for each: edges are asked for, with an example."""
        rows = [(f"i{n}", "face", "face", 0.9, (0, 0, 9, 9)) for n in range(60)]
        table = with_details(
            findings_of(rows), [Details(attributes={"age": n + 0.5}) for n in range(60)]
        )
        true = annotations_of([(f"i{n}", "face", "face", (0, 0, 9, 9), False) for n in range(60)])
        result = measure(table, true)
        with self.assertRaisesRegex(ArgumentError, "found.age:20,40"):
            result.by("found.age")
        self.assertEqual(len(result.by("found.age", edges=(20, 40))["face"].rows), 3)

    def test_crowding(self):
        """The greatest overlap with a neighbour, whatever its label."""
        true = annotations_of(
            [("a", "object", "x", (0, 0, 10, 10), False), ("a", "object", "y", (5, 0, 15, 10), False), ("a", "object", "x", (50, 0, 60, 10), False)]
        )  # fmt: skip
        found = measure(findings_of([("a", "object", "", None, None)]), true).by("crowding")
        counts = {name: row.annotated for name, row in found["object"].rows.items()}
        self.assertEqual(counts, {"alone": 1, "0.3 and more": 2})

    def test_bad(self):
        """An unknown column and edges that do not rise are refused."""
        for words, sign in (
            (("moonlight",), "size, crowding, edge"),
            (("size", (2, 1)), "rise"),
            (("edge", (5,)), "no edges"),
        ):
            with self.assertRaisesRegex(ArgumentError, sign):
                self.result.by(words[0], edges=words[1] if len(words) > 1 else None)


class AddsUp(unittest.TestCase):
    def test_slices_add_up(self):
        """Over any slicing that judges what is wrong, counts add up to the whole."""
        for kind in ("object", "label"):
            for seed in range(60):
                found, true = random_case(seed, kind)
                if not {f["image"] for f in found} & {a["image"] for a in true}:
                    continue
                said, truth = as_tables(found, true, kind)
                facts = {f"i{n}": {"width": 9, "height": 9, "even": n % 2 == 0} for n in range(3)}
                result = measure(said, truth.with_images(facts), threshold=0.5, draws=0)
                for name in ("size", "edge", "even") if kind == "object" else ("even",):
                    rows = result.by(name)[kind].rows.values()
                    if kind == "label":
                        self.assertTrue(all(math.isnan(row.mean_overlap) for row in rows))
                    fields = ["annotated", "true_positives", "false_positives", "misses"]
                    fields += ["set_aside", *(["true_negatives"] if kind == "label" else [])]
                    for field in fields:
                        total = getattr(result.pooled, field)
                        self.assertEqual(sum(getattr(r, field) for r in rows), total, (seed, name))
                    frame = result.by(name)[kind].frame()
                    self.assertNotIn(object, frame.drop(columns="slice").dtypes.tolist())

    def test_images_made_to_trick_a_service(self):
        """A slice in which nothing is annotated has its false-alarm rate: 1 of 2 x 3 images."""
        said = findings_of(
            [(n, "label", "moon", 0.9, None) for n in "ab"]
            + [(n, "label", "", None, None) for n in "cd"]
        )
        truth = annotations_of(
            [("a", "label", "moon", None, False), *((n, "", "", None, False) for n in "bcd")],
            vocabulary={"label": ["moon", "star"]},
        )
        truth = truth.with_images({n: {"set": "plain" if n == "a" else "trick"} for n in "abcd"})
        row = measure(said, truth, kinds=["label"]).by("set")["label"].rows["trick"]
        self.assertEqual((row.false_positives, row.true_negatives), (1, 5))
        self.assertAlmostEqual(row.false_alarm_rate, 1 / 6)
        self.assertEqual(row.images["false_alarm_rate"], 3)

    def test_a_slice_of_images_is_their_measure(self):
        """A slice by a column of images has the average precision of those images alone, pooled."""
        for seed in range(40):
            found, true = random_case(seed)
            if not {f["image"] for f in found} & {a["image"] for a in true}:
                continue
            said, truth = as_tables(found, true)
            facts = {f"i{n}": {"which": str(n)} for n in range(3)}
            for name, row in measure(said, truth.with_images(facts), draws=0).by("which")["object"].rows.items():  # fmt: skip
                mine = truth.take(truth.image.among([f"i{name}"]))
                alone = measure(said, mine, draws=0, kinds=["object"]).pooled
                if mine.labels("object") != truth.labels("object"):
                    continue  # another vocabulary judges other findings
                same = (row.average_precision, alone.average_precision)
                self.assertTrue(same[0] == same[1] or all(map(math.isnan, same)), same)


class Lists(unittest.TestCase):
    """Attributes that are lists: judged as sets, sliced by entry."""

    def measured(self):
        """Return three pairs: found {hat, mask}, {hat}, {} against {hat}, {hat, scarf}, {}."""
        found, true = [["hat", "mask"], ["Hat"], []], ["hat", ["hat", "scarf"], []]
        columns = {
            "image": ["a", "b", "c"],
            "kind": ["face"] * 3,
            "label": ["face"] * 3,
            "x0": [0.0] * 3,
            "y0": [0.0] * 3,
            "x1": [10.0] * 3,
            "y1": [10.0] * 3,
        }
        findings = dotledger.Findings.from_columns(
            **columns,
            confidence=[0.9] * 3,
            details=[Details(attributes={"worn": one}) for one in found],
        )
        annotations = dotledger.Annotations.from_columns(
            **columns,
            ignore=[False] * 3,
            details=[Details(attributes={"worn": one}) for one in true],
        )
        return dotledger.measure(findings, annotations, draws=0)

    def test_sets(self):
        """Entries are counted over all pairs; a pair is right if it has the same entries."""
        row = self.measured().details()["face"].attributes["worn"]
        self.assertEqual((row.judged, row.pairs, row.right), ("set", 3, 1))
        self.assertEqual((row.entries_found, row.entries_annotated, row.entries_common), (3, 3, 2))
        self.assertEqual((row.set_precision, row.set_recall), (2 / 3, 2 / 3))

    def test_slices_by_entry(self):
        """Each entry is a slice of those with and those without; together they are all."""
        result = self.measured()
        self.assertEqual(
            [name for name in result.slice_names() if "=" in name], ["worn=hat", "worn=scarf"]
        )
        rows = result.by("worn=hat")["face"].rows
        self.assertEqual({n: r.annotated for n, r in rows.items()}, {"with": 2, "without": 1})
        with self.assertRaisesRegex(ArgumentError, "worn=hat"):
            result.by("worn=hut")
