"""Why wrong, why missed: one hand-made case for every reason."""

import unittest
from dataclasses import replace

from dotledger import measure
from dotledger.core.questions.error_diagnosis import MISSED, WRONG
from dotledger.core.tables.table_origin import Origin
from tests.core.measurement.test_measure import annotations_of, as_tables, findings_of, random_case

OBJECT = (100, 100, 200, 200)


def wrong_reason(box, label="lantern", more=()):
    """Return the reason for a wrong finding next to one annotated lantern."""
    said = findings_of([("a", "object", label, 0.6, box), *more])
    true = annotations_of(
        [("a", "object", "lantern", OBJECT, False), ("a", "object", "moon", (900, 900, 950, 950), False)]
    )  # fmt: skip
    [case] = [c for c in measure(said, true, draws=0).why().wrong if c.confidence == 0.6]
    return case.reason


class Wrong(unittest.TestCase):
    def test_each_reason(self):
        """The spoken rule: the entire object and only the object."""
        first = [("a", "object", "lantern", 0.9, OBJECT)]
        self.assertEqual(wrong_reason((101, 101, 200, 200), more=first), "seen twice")
        self.assertEqual(wrong_reason((100, 100, 160, 160), more=first), "seen twice, box off")
        self.assertEqual(wrong_reason((50, 50, 250, 250), more=first), "seen twice, box off")
        self.assertEqual(wrong_reason(OBJECT, "moon"), "another label")
        self.assertEqual(wrong_reason((50, 50, 250, 250)), "box spills over")
        self.assertEqual(wrong_reason((100, 100, 160, 160)), "box cuts part off")
        self.assertEqual(wrong_reason((160, 100, 260, 200)), "box shifted")
        self.assertEqual(wrong_reason((100, 100, 160, 160), "moon"), "another label, box off")
        self.assertEqual(wrong_reason((500, 500, 600, 600)), "nothing there")

    def test_one_box_over_several(self):
        """It holds half of each, however small they are against it; each of them says the same."""
        boxes = [(100 * i, 0, 100 * i + 20, 20) for i in range(3)]
        said = findings_of(
            [
                ("a", "object", "lantern", 0.6, (0, 0, 300, 40)),
                ("a", "object", "lantern", 0.9, boxes[0]),
            ]
        )
        true = annotations_of([("a", "object", "lantern", box, False) for box in boxes])
        why = measure(said, true, draws=0).why()
        self.assertEqual([c.reason for c in why.wrong], ["one box over several"])
        self.assertEqual([c.reason for c in why.missed], ["one box over several"] * 2)
        near = findings_of([("a", "object", "lantern", 0.6, (0, 0, 120, 20))])
        why = measure(near, true, draws=0).why()
        self.assertEqual([c.reason for c in why.wrong], ["one box over several"])

    def test_faces_under_the_services_smallest(self):
        """In pixels of what was sent: half of the original's here."""
        origin = Origin(service="s", smallest_face=20)
        facts = {"a": {"width": 1000, "height": 800, "sent_width": 500, "sent_height": 400}}
        said = replace(findings_of([("a", "face", "", None, None)]), origin=origin)
        true = annotations_of(
            [("a", "face", "face", (9 * w, 0, 10 * w, w), False) for w in (30, 50)]
        )
        got = measure(said, true.with_images(facts), draws=0).why().missed
        self.assertEqual([c.reason for c in got], ["not seen", "too small"])
        self.assertIn("15 pixels as sent", got[1].about)

    def test_order_and_words(self):
        """The most confident first; a case says what is annotated there."""
        said = findings_of(
            [("a", "object", "moon", c, OBJECT if c == 0.7 else (0, 0, 9, 9)) for c in (0.5, 0.7, None)]
        )  # fmt: skip
        true = annotations_of(
            [("a", "object", "lantern", OBJECT, False), ("b", "object", "moon", OBJECT, False)]
        )
        cases = measure(said, true, draws=0).why().wrong
        self.assertEqual([c.confidence for c in cases], [float("inf"), 0.7, 0.5])
        self.assertEqual(
            (cases[1].other, cases[1].about), ("lantern", "is annotated as lantern (overlap 1.00)")
        )
        self.assertIsNone(cases[0].to_dict()["confidence"])


class Missed(unittest.TestCase):
    def reasons(self, said, true, **more):
        facts = {"a": {"width": 1000, "height": 1000}}
        found = measure(findings_of(said), annotations_of(true).with_images(facts), **more)
        return [(case.label, case.reason, case.about) for case in found.why().missed]

    def test_each_reason(self):
        """One annotation for each reason, all in one image, the largest first."""
        places = [(100 * i, 0, 100 * i + 90, 90 + i) for i in range(10)]
        said = [
            ("a", "object", "below", 0.41, places[0]),
            ("a", "object", "moon", 0.9, places[1]),
            ("a", "object", "spilt", 0.9, (190, 0, 330, 180)),
            ("a", "object", "cut", 0.9, (300, 0, 340, 40)),
        ]
        true = [
            ("a", "object", name, box, False)
            for name, box in zip(("below", "misnamed", "spilt", "cut", "unseen"), places)
        ]
        true += [("a", "object", "tiny", (500, 500, 505, 505), False)]
        true += [
            ("a", "object", n, b, False)
            for n, b in (("one", (600, 600, 650, 650)), ("two", (620, 600, 670, 650)))
        ]
        true += [("b", "object", "moon", (0, 0, 1, 1), False)]
        got = {
            label: (reason, about)
            for label, reason, about in self.reasons(said, true, threshold=0.5)
        }
        self.assertEqual(
            got["below"], ("below the threshold", "found, but below the threshold (at 0.41)")
        )
        self.assertEqual(got["misnamed"], ("another label", "found as moon (overlap 1.00)"))
        self.assertEqual(got["spilt"][0], "box spills over")
        self.assertEqual(got["cut"][0], "box cuts part off")
        self.assertEqual(got["unseen"], ("not seen", "nothing was found there"))
        self.assertEqual(got["tiny"][0], "too small")
        self.assertEqual({got["one"][0], got["two"][0]}, {"crowded"})
        self.assertEqual(len(got), 8)

    def test_presence(self):
        """Without boxes: below the threshold, or not seen."""
        said = [("a", "label", "dusk", 0.3, None), ("b", "label", "", None, None)]
        true = [(i, "label", "dusk", None, False) for i in "ab"]
        got = self.reasons(said, true, threshold=0.5)
        self.assertEqual([reason for _, reason, _ in got], ["below the threshold", "not seen"])

    def test_no_answer(self):
        """Images without an answer, counted on request, say so for either way of judging."""
        said = [("a", "label", "", None, None), ("a", "object", "", None, None)]
        true = [
            (i, k, "x", (0, 0, 90, 90) if k == "object" else None, False)
            for i in "ab"
            for k in ("label", "object")
        ]
        got = self.reasons(said, true, count_unanswered=True)
        self.assertEqual(sorted(r for _, r, _ in got), ["no answer"] * 2 + ["not seen"] * 2)


class Shares(unittest.TestCase):
    def test_every_case_has_one_reason(self):
        """On random cases the reasons are as many as what is wrong and missed, and shares add up."""
        for seed in range(150):
            found, true = random_case(seed)
            if not {f["image"] for f in found} & {a["image"] for a in true}:
                continue
            result = measure(*as_tables(found, true), threshold=0.5, draws=0)
            why, pooled = result.why(), result.pooled
            self.assertEqual(len(why.wrong), pooled.false_positives)
            self.assertEqual(len(why.missed), pooled.misses)
            self.assertTrue({c.reason for c in why.wrong} <= set(WRONG))
            self.assertTrue({c.reason for c in why.missed} <= set(MISSED))
            frame = why.shares()
            for side, count in (("wrong", pooled.false_positives), ("missed", pooled.misses)):
                part = frame[frame["side"] == side]
                self.assertEqual(part["count"].sum(), count)
                if count:
                    self.assertAlmostEqual(part["share"].sum(), 1)

    def test_confusion_adds_up(self):
        """Every countable annotation stands in one row, every judged finding in one column."""
        for seed in range(100):
            found, true = random_case(seed)
            if not {f["image"] for f in found} & {a["image"] for a in true}:
                continue
            result = measure(*as_tables(found, true), draws=0)
            counts = result.confusion()["object"].counts
            self.assertEqual(counts[:-1].sum(), result.pooled.annotated)
