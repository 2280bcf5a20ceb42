"""Reliability and its mapping: worked cases, and that it mends what it should."""

import unittest
from dataclasses import replace

import numpy as np

from dotledger import ConfidenceMap, Findings, fit_confidence_map, measure
from dotledger.core.tables.table_origin import Origin
from dotledger.core.thresholds.confidence_map import unseen_images
from dotledger.core.thresholds.confidence_map_fits import IDENTITY, isotonic_knots, logistic_knots
from dotledger.core.thresholds.image_folds import contents_of, part_of_images
from dotledger.errors import ArgumentError, ScopeError
from tests import simulation
from tests.core.measurement.test_measure import annotations_of, findings_of

BOX, FAR = (0, 0, 10, 10), (50, 0, 60, 10)


def overconfident(images=400, seed=2):
    """A service whose findings of confidence c are right with probability c squared."""
    rng = np.random.default_rng(seed)
    sure = rng.uniform(0.2, 1.0, images).round(3)
    right = rng.random(images) < sure**2
    said = findings_of(
        [(f"i{i}", "object", "x", sure[i], BOX if right[i] else FAR) for i in range(images)]
    )
    return said, annotations_of([(f"i{i}", "object", "x", BOX, False) for i in range(images)])


class Bands(unittest.TestCase):
    def test_worked(self):
        """Four findings in two bands: |0.5 - 0.85| and |1 - 0.95| weigh 2 and 2 of 4."""
        rows = [
            ("a", 0.82, BOX),
            ("b", 0.88, FAR),
            ("c", 0.92, BOX),
            ("d", 0.98, BOX),
            ("e", None, BOX),
        ]
        said = findings_of([(i, "object", "x", c, b) for i, c, b in rows])
        true = annotations_of([(i, "object", "x", BOX, False) for i, _, _ in rows])
        found = measure(said, true).reliability()["object"]
        self.assertEqual([b.count for b in found.bands], [0] * 8 + [2, 2])
        self.assertEqual([b.share_right for b in found.bands[8:]], [0.5, 1.0])
        self.assertEqual((found.count, found.without_confidence), (4, 1))
        self.assertAlmostEqual(found.expected_calibration_error, (2 * 0.35 + 2 * 0.05) / 4)
        halves = measure(said, true).reliability(edges=(0.9,))["object"]
        self.assertEqual([b.count for b in halves.bands], [2, 2])
        with self.assertRaisesRegex(ArgumentError, "rise"):
            measure(said, true).reliability(edges=(0.9, 0.1))


class Mapping(unittest.TestCase):
    def test_it_mends_overconfidence_on_unseen_images(self):
        """Fitted on half the images, the error on the other half falls by more than half."""
        said, true = overconfident()
        chosen = part_of_images(said, true, 0.5)
        mapping = fit_confidence_map(said, true, images=chosen)
        fresh = unseen_images(mapping, true)
        self.assertEqual(len(set(fresh.image.used()) | mapping.images), 400)
        self.assertFalse(set(fresh.image.used()) & mapping.images)
        before, after = (
            measure(t, fresh, draws=0).reliability()["object"].expected_calibration_error
            for t in (said, mapping.apply(said))
        )
        self.assertLess(after, before / 2)

    def test_isotonic_fit(self):
        """Pool adjacent violators by hand: 0, (1, 0) -> 1/2, 1; offered only where it helps on other images."""
        said = findings_of(
            [(f"i{n}", "object", "x", c, b) for n, (c, b) in enumerate([(0.2, FAR), (0.4, BOX), (0.6, FAR), (0.8, BOX)])]
        )  # fmt: skip
        true = annotations_of([(f"i{n}", "object", "x", BOX, False) for n in range(4)])
        mapping = fit_confidence_map(said, true)
        self.assertEqual(
            (mapping.ways, mapping.knots["object"]), ({"object": "identity"}, IDENTITY)
        )
        self.assertIn("stay as they are: object.", " ".join(mapping.doubts(said)))
        fitted = isotonic_knots(
            np.array([0.2, 0.4, 0.6, 0.8]), np.array([False, True, False, True])
        )
        self.assertEqual(fitted, ((0.2, 0.0), (0.4, 0.5), (0.6, 0.5), (0.8, 1.0)))
        mapped = replace(mapping, knots={"object": fitted}).apply(
            findings_of([("z", "object", "x", c, BOX) for c in (0.1, 0.3, 0.5, 0.9, None)])
        )
        np.testing.assert_allclose(mapped.confidence, [0, 0.25, 0.5, 1, np.nan])

    def test_logistic_fit(self):
        """Two confidences: the fit gives back Platt's targets of each, which two parameters can."""
        sure = np.repeat([0.2, 0.9], 100)
        right = np.r_[np.arange(100) < 40, np.arange(100) < 70]
        x, y = np.array(logistic_knots(sure, right)).T
        hit, miss = 111 / 112, 1 / 92
        self.assertAlmostEqual(np.interp(0.2, x, y), 0.4 * hit + 0.6 * miss, places=2)
        self.assertAlmostEqual(np.interp(0.9, x, y), 0.7 * hit + 0.3 * miss, places=2)

    def test_never_worse(self):
        """Ten simulated services at four sizes: where nothing needs mending nothing is mended, and no harm is done."""
        for images in (15, 30, 60, 200):
            found = {
                s: [simulation.brier_change(seed, images, s) for seed in range(5)]
                for s in simulation.SERVICES
            }
            self.assertEqual({way for _, way in found["calibrated"]}, {"identity"})
            for service, changes in found.items():
                with self.subTest(images=images, service=service):
                    self.assertLessEqual(np.mean([change for change, _ in changes]), 0.002)
        self.assertLess(np.mean([change for change, _ in found["much over"]]), -0.02)

    def test_order_is_kept(self):
        """Mapping never turns two findings round, and leaves other kinds alone."""
        said, true = overconfident()
        mapping = fit_confidence_map(said, true)
        order = np.argsort(said.confidence)
        self.assertTrue((np.diff(mapping.apply(said).confidence[order]) >= 0).all())
        face = findings_of([("a", "face", "f", 0.5, BOX)])
        self.assertEqual(mapping.apply(face).confidence.tolist(), [0.5])

    def test_kept_and_refused(self):
        """Plain values give it back; judging it on its own images, or nonsense, is refused."""
        said, true = overconfident(40)
        mapping = fit_confidence_map(said, true)
        self.assertEqual(ConfidenceMap.from_dict(mapping.to_dict()), mapping)
        with self.assertRaisesRegex(ScopeError, "fitted on all"):
            unseen_images(mapping, true)
        for bad in ({}, {**mapping.to_dict(), "knots": {"object": [[0.5, 0.9], [0.4, 1]]}}):
            with self.assertRaises(ArgumentError):
                ConfidenceMap.from_dict(bad)
        with self.assertRaisesRegex(ScopeError, "no finding"):
            fit_confidence_map(Findings.empty(), true)
        with self.assertRaisesRegex(ArgumentError, "share"):
            part_of_images(said, true, 1.5)

    def test_doubts(self):
        """Another service, another overlap, few images and renamed ones are noticed."""
        said, true = overconfident(40)
        mine = replace(said, origin=Origin(service="flint"))
        mapping = fit_confidence_map(mine, true, images=[f"i{n}" for n in range(12)])
        self.assertEqual(ConfidenceMap.from_dict(mapping.to_dict()), mapping)
        other = replace(said, origin=Origin(service="marl"))
        doubts = " ".join(mapping.doubts(other, overlap=0.75))
        for sign in ("fitted for flint", "overlap of 0.5, not 0.75", "images only"):
            self.assertIn(sign, doubts)
        self.assertEqual(fit_confidence_map(mine, true).doubts(mine, overlap=0.5), [])
        boxes = [("object", "bell", (n, 0, n + 9, 9)) for n in range(3)]
        first = annotations_of([(f"i{n}", *b, False) for n, b in enumerate(boxes)])
        renamed = annotations_of([(f"x{n}", *b, False) for n, b in enumerate(boxes)])
        kept = ConfidenceMap(
            knots={},
            images=frozenset(["i0"]),
            overlap=0.5,
            contents=frozenset([contents_of(first)["i0"]]),
        )
        self.assertEqual(unseen_images(kept, renamed).image.used(), ["x1", "x2"])

    def test_the_whole_vocabulary(self):
        """A label that only occurs where the mapping was fitted stays in scope on the others."""
        truth = annotations_of(
            [("a", "object", "bell", BOX, False), ("b", "object", "lamp", BOX, False)]
        )
        mapping = ConfidenceMap(
            knots={"object": ((0.0, 0.0), (1.0, 1.0))}, images=frozenset("a"), overlap=0.5
        )
        fresh = unseen_images(mapping, truth)
        self.assertEqual((fresh.image.used(), fresh.labels("object")), (["b"], ("bell", "lamp")))
