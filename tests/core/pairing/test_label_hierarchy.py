"""Broader and narrower labels: counted apart, credited on request."""

import unittest

from dotledger import measure
from dotledger.core.tables.finding_details import Details
from tests.core.measurement.test_measure import annotations_of, findings_of
from tests.core.questions.test_questions import BOX, FAR, with_details


class Relatives(unittest.TestCase):
    def setUp(self):
        rows = [("a", "object", "light", 0.9, BOX), ("a", "object", "red lantern", 0.8, FAR)]
        self.said = with_details(findings_of(rows), [None, Details(parents=("lantern",))])
        self.true = annotations_of([("a", "object", "lantern", b, False) for b in (BOX, FAR)])
        self.broader = {"lantern": ["lamp"], "lamp": ["light"]}

    def test_counted_apart(self):
        """A broader label (by way of another) and a narrower one are counted, not credited."""
        result = measure(self.said, self.true, broader=self.broader)
        found = result.confusion()["object"]
        self.assertEqual((found.too_broad, found.too_narrow), ({"lantern": 1}, {"lantern": 1}))
        self.assertEqual((result.pooled.true_positives, result.unjudged), (0, 2))
        reasons = [case.reason for case in result.why().missed]
        self.assertEqual(sorted(reasons), ["label too broad", "label too narrow"])

    def test_what_is_found_already_is_not_found_again(self):
        """A broader label over an object that its own label found is wrong, not too broad."""
        rows = [("a", "object", "lantern", 0.9, BOX), ("a", "object", "light", 0.8, BOX)]
        true = annotations_of([("a", "object", "lantern", BOX, False)])
        result = measure(findings_of(rows), true, broader=self.broader, credit_related=True)
        self.assertEqual((result.pooled.true_positives, result.unjudged), (1, 1))
        self.assertEqual(result.confusion()["object"].too_broad, {})

    def test_credited_on_request(self):
        """On request both count as right, and the result says so."""
        result = measure(self.said, self.true, broader=self.broader, credit_related=True)
        self.assertEqual((result.pooled.true_positives, result.unjudged), (2, 0))
        self.assertIn("credited", " ".join(result.notes))

    def test_presence(self):
        """Without boxes being in the image is enough."""
        said = findings_of([("a", "label", "light", 0.9, None)])
        true = annotations_of([("a", "label", "lantern", None, False)])
        result = measure(said, true, broader=self.broader)
        self.assertEqual([c.reason for c in result.why().missed], ["label too broad"])
        credited = measure(said, true, broader=self.broader, credit_related=True)
        self.assertEqual(credited.pooled.true_positives, 1)
