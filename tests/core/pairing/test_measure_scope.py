"""Which images, labels and rows a measure is about, counted row by row."""

import contextlib
import unittest
from collections import Counter

from dotledger import measure
from dotledger.errors import ScopeError
from tests.core.measurement.test_measure import as_tables, at_a_time, random_case


class Scopes(unittest.TestCase):
    def test_counts(self):
        """Images in scope, unjudged labels and rows without a label, however few rows at a time."""
        counted = 0
        for size in (None, 1, 3):
            with at_a_time(size) if size else contextlib.nullcontext():
                for seed in range(80):
                    found, true = random_case(seed)
                    with contextlib.suppress(ScopeError):  # no image in common
                        result = measure(*as_tables(found, true), draws=0)
                        counted += self.check(found, true, result.kinds.get("object"))
        self.assertGreater(counted, 20, "some are unjudged")

    def check(self, found, true, kind):
        covered, labels = {a["image"] for a in true}, {a["label"] for a in true if a["label"]}
        images = covered & {f["image"] for f in found}
        here = [f for f in found if f["image"] in images and f["label"]]
        unjudged = Counter(f["label"] for f in here if f["label"] not in labels)
        annotated = sum(a["image"] in images and bool(a["label"]) and not a["ignore"] for a in true)
        if kind is None:  # nothing of the kind is annotated
            self.assertEqual(annotated, 0)
            return 0
        self.assertEqual(kind.unanswered, len(covered) - len(images))
        self.assertEqual(kind.images_in_scope, len(images))
        self.assertEqual(dict(kind.unjudged), dict(unjudged))
        self.assertEqual(kind.pooled.annotated, annotated)
        return unjudged.total()
