"""Expectations, gates and drift."""

import unittest

from dotledger import measure
from dotledger.core.comparison.expectations import (
    Expectation,
    expectations_from,
    unmet_expectations,
)
from dotledger.core.comparison.release_gates import Gate, judge_gates
from dotledger.errors import ArgumentError
from dotledger.report.gate_reports import junit_text, markdown_text
from tests.core.measurement.test_measure import annotations_of, findings_of

BOX, FAR = (0, 0, 10, 10), (50, 0, 60, 10)
FOUND = findings_of([("walk", "object", "lantern", 0.9, BOX), ("walk", "object", "lantern", 0.4, FAR),
                     ("walk", "face", "", None, None), ("moon", "object", "lantern", 0.6, BOX)])  # fmt: skip


class Expectations(unittest.TestCase):
    def unmet(self, threshold=0.5, **cells):
        cells = {"image": "walk", "kind": "object", "label": "lantern", **cells}
        return [
            one.message
            for one in unmet_expectations(FOUND, [Expectation(**cells)], threshold=threshold)
        ]

    def test_met_and_unmet(self):
        """Counts at the threshold; the message tells what came, and what was cut."""
        self.assertEqual(self.unmet(at_least=1), [])
        self.assertEqual(self.unmet(threshold=0.4, at_least=2, at_most=2), [])
        self.assertEqual(
            self.unmet(at_least=2),
            ["1 found, at least 2 expected (confidences 0.90, 0.40); 1 more below the threshold"],
        )
        self.assertEqual(self.unmet(kind="face", label="", at_most=0), [])
        self.assertEqual(
            self.unmet(image="moon", label="", at_most=0, reason="a decoy"),
            ["1 found, none expected (confidences 0.60); a decoy"],
        )
        self.assertEqual(
            self.unmet(image="mon", at_most=0),
            ["no answer for this image and kind; did you mean 'moon'?"],
        )

    def test_refused(self):
        """What nothing could meet, or everything would, is no expectation."""
        for cells, why in (({}, "nothing is expected"), ({"at_least": 2, "at_most": 1}, "contradict"), ({"kind": "objekt", "at_least": 1}, "unknown kind")):  # fmt: skip
            with self.assertRaisesRegex(ArgumentError, why):
                self.unmet(**cells)

    def test_verdicts(self):
        """A verdict is expected of the whole image, and needs rules."""
        block = Expectation(image="moon", verdict="block", reason="a decoy")
        given = {"moon": "pass", "walk": "hold"}
        [unmet] = unmet_expectations(
            FOUND, [block, Expectation(image="walk", verdict="hold")], verdicts=given
        )
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
        self.assertEqual(
            (one.image, one.label, one.at_least, one.at_most), ("walk", "lantern", 2, None)
        )
        strict = expectations_from(true, nothing_else=True)
        self.assertEqual(
            [(e.image, e.label) for e in strict[1:]], [("moon", "lantern"), ("moon", "stool")]
        )
        self.assertEqual(len(unmet_expectations(FOUND, strict)), 1, "the decoy")


class Gates(unittest.TestCase):
    def setUp(self):
        self.true = annotations_of([(f"i{n}", "object", "x", BOX, False) for n in range(12)])
        rows = [(f"i{n}", "object", "x", 0.9, BOX if n < 9 else FAR) for n in range(12)]
        self.measured = measure(findings_of(rows), self.true)

    def judged(self, measured=None, **cells):
        return judge_gates(
            [Gate(**cells)], measured or self.measured, before={"spring": self.better()}
        ).judged[0]

    def better(self):
        return measure(
            findings_of([(f"i{n}", "object", "x", 0.9, BOX) for n in range(12)]), self.true, draws=0
        )

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
        self.assertEqual(
            (suite.get("tests"), suite.get("failures"), suite.get("skipped")), ("2", "1", "1")
        )
        self.assertIn("at least 0.9", suite.find("testcase/failure").get("message"))
        text = markdown_text(verdicts)
        self.assertIn("**Not all gates hold.**", text)
        self.assertIn("a \\| &lt;b>", text)
        self.assertEqual({line.count(" | ") for line in text.splitlines()[2:]}, {5})
