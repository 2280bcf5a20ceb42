"""Expectations, gates and drift."""

import math
import unittest
from dataclasses import replace

import numpy as np

from dotledger import drift, measure
from dotledger.core.comparing.drift import drift_of, shape_changes
from dotledger.core.comparing.expectations import (
    Expectation,
    expectations_from,
    unmet_expectations,
)
from dotledger.core.comparing.gates import Gate, judge_gates
from dotledger.errors import ArgumentError, ScopeError
from dotledger.report.gates import junit_text, markdown_text
from tests import simulation
from tests.core.measuring.test_measure import annotations_of, findings_of

BOX, FAR = (0, 0, 10, 10), (50, 0, 60, 10)
FOUND = findings_of([("walk", "object", "lantern", 0.9, BOX), ("walk", "object", "lantern", 0.4, FAR),
                     ("walk", "face", "", None, None), ("moon", "object", "lantern", 0.6, BOX)])  # fmt: skip


class Expectations(unittest.TestCase):
    def unmet(self, threshold=0.5, **cells):
        cells = {"image": "walk", "kind": "object", "label": "lantern", **cells}
        return [one.message for one in unmet_expectations(FOUND, [Expectation(**cells)], threshold=threshold)]  # fmt: skip

    def test_met_and_unmet(self):
        """Counts at the threshold; the message tells what came, and what was cut."""
        self.assertEqual(self.unmet(at_least=1), [])
        self.assertEqual(self.unmet(threshold=0.4, at_least=2, at_most=2), [])
        self.assertEqual(self.unmet(at_least=2), ["1 found, at least 2 expected (confidences 0.90, 0.40); 1 more below the threshold"])  # fmt: skip
        self.assertEqual(self.unmet(kind="face", label="", at_most=0), [])
        self.assertEqual(self.unmet(image="moon", label="", at_most=0, reason="a decoy"), ["1 found, none expected (confidences 0.60); a decoy"])  # fmt: skip
        self.assertEqual(self.unmet(image="mon", at_most=0), ["no answer for this image and kind; did you mean 'moon'?"])  # fmt: skip

    def test_refused(self):
        """What nothing could meet, or everything would, is no expectation."""
        for cells, why in (({}, "nothing is expected"), ({"at_least": 2, "at_most": 1}, "contradict"), ({"kind": "objekt", "at_least": 1}, "unknown kind")):  # fmt: skip
            with self.assertRaisesRegex(ArgumentError, why):
                self.unmet(**cells)

    def test_verdicts(self):
        """A verdict is expected of the whole image, and needs rules."""
        block = Expectation(image="moon", verdict="block", reason="a decoy")
        given = {"moon": "pass", "walk": "hold"}
        [unmet] = unmet_expectations(FOUND, [block, Expectation(image="walk", verdict="hold")], verdicts=given)  # fmt: skip
        self.assertEqual(unmet.message, "pass, block expected; a decoy")
        self.assertEqual((unmet.expectation.what, unmet.expectation.wanted), ("verdict", "block"))
        with self.assertRaisesRegex(ArgumentError, "there are no rules"):
            unmet_expectations(FOUND, [block])
        for cells in ({"verdict": "blok"}, {"verdict": "block", "kind": "object"}, {}):
            with self.assertRaises(ArgumentError):
                Expectation(image="a", **cells)

    def test_from_annotations(self):
        """As many as are annotated; on request nothing else, but where something is doubtful."""
        true = annotations_of([("walk", "object", "lantern", BOX, False), ("walk", "object", "lantern", FAR, False),
                               ("walk", "object", "stool", BOX, True), ("moon", "object", "", None, False)])  # fmt: skip
        [one] = expectations_from(true)
        self.assertEqual((one.image, one.label, one.at_least, one.at_most), ("walk", "lantern", 2, None))  # fmt: skip
        strict = expectations_from(true, nothing_else=True)
        self.assertEqual([(e.image, e.label) for e in strict[1:]], [("moon", "lantern"), ("moon", "stool")])  # fmt: skip
        self.assertEqual(len(unmet_expectations(FOUND, strict)), 1, "the decoy")


class Gates(unittest.TestCase):
    def setUp(self):
        self.true = annotations_of([(f"i{n}", "object", "x", BOX, False) for n in range(12)])
        rows = [(f"i{n}", "object", "x", 0.9, BOX if n < 9 else FAR) for n in range(12)]
        self.measured = measure(findings_of(rows), self.true)

    def judged(self, measured=None, **cells):
        return judge_gates([Gate(**cells)], measured or self.measured, before={"spring": self.better()}).judged[0]  # fmt: skip

    def better(self):
        return measure(findings_of([(f"i{n}", "object", "x", 0.9, BOX) for n in range(12)]), self.true, draws=0)  # fmt: skip

    def test_limits(self):
        """A value on its limit holds; the ends of the interval, and falls, are held to theirs."""
        for cells, holds, why in (
            ({"measure": "recall", "at_least": 0.75}, True, ""),
            ({"measure": "recall", "at_least": 0.76}, False, "0.75, at least 0.76 asked"),
            ({"measure": "misses", "at_most": 3}, True, ""),
            ({"measure": "misses", "at_most": 2}, False, "3, at most 2 asked"),
            ({"measure": "recall", "of": "object:x", "lower_end_at_least": 0.6}, False, "lower end 0.4"),
            ({"measure": "recall", "upper_end_at_most": 0.95}, True, ""),
            ({"measure": "recall", "falls_at_most": 0.25, "against": "spring"}, True, ""),
            # Three of twelve images differ: a quarter of all exchanges moves recall as far.
            ({"measure": "recall", "falls_at_most": 0.2, "against": "spring"}, False, "cannot be judged: fell by 0.25 from 1, which these images cannot tell from chance (p 0.2"),
            ({"measure": "false_positives", "rises_at_most": 2, "against": "spring"}, False, "rose by 3 from 0"),
            ({"measure": "expected_calibration_error", "at_most": 0.15}, True, ""),
            ({"measure": "expected_calibration_error", "at_most": 0.14}, False, "at most 0.14"),
            ({"measure": "unanswered_share", "at_most": 0}, True, ""),
        ):  # fmt: skip
            with self.subTest(cells=cells):
                one = self.judged(**cells)
                self.assertEqual(one.holds, holds)
                self.assertIn(why, one.why)

    def test_a_fall(self):
        """Six of twelve images lost: hardly any exchange moves recall as far, and the gate is broken."""
        rows = [(f"i{n}", "object", "x", 0.9, BOX if n < 6 else FAR) for n in range(12)]
        measured = measure(findings_of(rows), self.true)
        for cells in (
            {"measure": "recall", "falls_at_most": 0.2},
            {"measure": "f1", "of": "object:x", "falls_at_most": 0.2},
        ):
            one = self.judged(measured, **cells, against="spring", if_unjudged="holds")
            self.assertEqual(
                (one.holds, one.was_judged, one.why), (False, True, "fell by 0.5 from 1")
            )
        three = self.judged(
            measure="recall", falls_at_most=0.2, against="spring", if_unjudged="holds"
        )
        self.assertEqual((three.holds, three.was_judged), (True, False))

    def test_what_cannot_be_judged(self):
        """It does not hold, unless the file says otherwise; few images are a reason."""
        for cells in ({"measure": "failed_share", "at_most": 0.1}, {"measure": "false_alarm_rate", "at_most": 0.1},
                      {"measure": "recall", "at_least": 0.1, "least_images": 13}, {"measure": "caught_share", "at_least": 0.1}):  # fmt: skip
            with self.subTest(cells=cells):
                one = self.judged(**cells)
                self.assertEqual((one.holds, one.was_judged), (False, False))
                self.assertIn("cannot be judged", one.why)
                self.assertTrue(self.judged(**cells, if_unjudged="holds").holds)

    def test_refused(self):
        """A misspelt measure, label or run is named with the nearest; so is a gate without limit."""
        for cells, why in (
            ({"measure": "recal", "at_least": 0.1}, "did you mean 'recall'"),
            ({"measure": "recall", "of": "objekt", "at_least": 0.1}, "did you mean 'object'"),
            ({"measure": "recall", "falls_at_most": 0.1, "against": "sprin"}, "did you mean 'spring'"),
            ({"measure": "recall"}, "holds always"),
            ({"measure": "recall", "of": "object", "of_each": "kind", "at_least": 0}, "not both"),
        ):  # fmt: skip
            with self.subTest(cells=cells), self.assertRaisesRegex(ArgumentError, why):
                self.judged(**cells)
        with self.assertRaisesRegex(ArgumentError, "no gate"):
            judge_gates([], self.measured)

    def test_build_servers(self):
        """JUnit XML has a case a gate, failures with reasons; Markdown is a table, and harmless."""
        from xml.etree import ElementTree

        gates = [Gate(measure="recall", of_each="label", at_least=0.9, name="a | <b>\x07"),
                 Gate(measure="failed_share", at_most=0.1, if_unjudged="holds")]  # fmt: skip
        verdicts = judge_gates(gates, self.measured)
        suite = ElementTree.fromstring(junit_text(verdicts).encode())
        self.assertEqual((suite.get("tests"), suite.get("failures"), suite.get("skipped")), ("2", "1", "1"))  # fmt: skip
        self.assertIn("at least 0.9", suite.find("testcase/failure").get("message"))
        text = markdown_text(verdicts)
        self.assertIn("**Not all gates hold.**", text)
        self.assertIn("a \\| &lt;b>", text)
        self.assertEqual({line.count(" | ") for line in text.splitlines()[2:]}, {5})


class Drifting(unittest.TestCase):
    def test_the_same_model(self):
        """Two rounds of one model differ by chance alone, in about one of twenty figures."""
        found, every = 0, 0
        for seed in range(30):
            rng = np.random.default_rng(seed)
            _, first, second = simulation.equal_services(rng, 60)
            result = drift_of(first, second, draws=200)
            found, every = found + len(result.found), every + len(result.changes)
        self.assertLessEqual(found / every, 0.1)

    def test_another_model(self):
        """A shift of confidences is seen, and only it, with the distance it has."""
        _, first, _ = simulation.equal_services(np.random.default_rng(1), 80)
        second = replace(first, confidence=np.clip(first.confidence + 0.1, 0, 1))
        result = drift(first, second, draws=200)
        [one] = result.found
        self.assertEqual((one.what, one.of), ("confidence distance", "object"))
        self.assertAlmostEqual(one.change, 0.1, delta=0.01)
        self.assertTrue(one.low <= one.change <= one.high or math.isnan(one.low))
        self.assertTrue(0 < one.by_chance < 0.05)

    def test_fewer_findings(self):
        """A service that finds less: fewer images with a finding, fewer findings in each."""
        rows = [(f"i{n}", "object", "x", 0.9, (10 * k, 0, 10 * k + 9, 9)) for n in range(40) for k in range(2)]  # fmt: skip
        blank = [(f"i{n}", "object", "", None, None) for n in range(40)]
        less = [row for row in rows if int(row[0][1:]) % 3 and row[4][0] == 0]
        result = drift_of(findings_of(rows), findings_of(less + blank), draws=200)
        means = {one.what: one for one in result.found if one.what != "confidence distance"}
        self.assertEqual(set(means), {"images with a finding", "findings per image"})
        share, count = means["images with a finding"], means["findings per image"]
        self.assertEqual((share.first, share.second), (1.0, 0.65))
        self.assertEqual((count.first, count.second, count.change), (2.0, 0.65, -1.35))
        self.assertTrue(count.low <= count.change <= count.high < 0)
        self.assertTrue(math.isnan(count.by_chance))
        back = drift_of(findings_of(less + blank), findings_of(rows), draws=200)
        self.assertEqual({one.what for one in back.found}, set(means))

    def test_labels_and_other_images(self):
        """Labels that came and went; runs of other images are compared, with a word of warning."""
        first = findings_of([(f"i{n}", "label", "moon", 0.9, None) for n in range(30)])
        second = findings_of([(f"i{n}", "label", "sun", 0.9, None) for n in range(30)])
        result = drift_of(first, second, draws=50)
        self.assertEqual((result.came, result.went), ({"label:sun": 30}, {"label:moon": 30}))
        self.assertTrue(result.paired)
        other = replace(second, image=replace(second.image, names=tuple(f"j{n}" for n in range(30))))  # fmt: skip
        apart = drift_of(first, other.take(np.arange(10)), draws=50)
        self.assertEqual((apart.paired, apart.images), (False, (30, 10)))
        self.assertIn("different images", apart.notes[-1])
        with self.assertRaises(ScopeError):
            drift_of(first, first.take(np.zeros(0, dtype=np.intp)))

    def test_shape_and_latency(self):
        """Fields that appear or vanish, at any depth; calls that take longer."""
        changed = shape_changes([{"a": {"b": 1}, "c": [{"d": 1}]}], [{"a": {}, "c": [{"d": 1, "e": 2}]}])  # fmt: skip
        self.assertEqual(changed, {"appeared": ("c[].e",), "vanished": ("a.b",)})
        rows = findings_of([(f"i{n}", "label", "moon", 0.9, None) for n in range(5)])
        slow = drift_of(rows, rows, seconds=([0.1, 0.12, 0.11] * 9, [0.3, 0.31, 0.29] * 9), draws=100)  # fmt: skip
        self.assertEqual([one.what for one in slow.found], ["median seconds of a call"])
