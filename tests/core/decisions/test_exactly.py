"""Verdicts and reviews counted exactly: shares that are held, kinds added up, images left out."""

import unittest

from dotledger import decide, mask_text
from dotledger.core.copies.image_fingerprints import PARTS, Prints
from dotledger.core.decisions.decide import decide as decide_core
from dotledger.core.decisions.human_decisions import _by_kind
from dotledger.core.decisions.rule_conditions import Condition, Rule, Rules
from dotledger.errors import ArgumentError
from tests.core.measurement.test_measure import annotations_of, findings_of

BOX = (0, 0, 10, 10)


class Shares(unittest.TestCase):
    def test_what_is_held_of_all(self):
        """One of four judged images is held: a quarter, and its interval is about a quarter."""
        found = findings_of(
            [
                (name, "unsafe", "smoke", sure, None)
                for name, sure in zip("abcd", (0.9, 0.5, 0.1, 0.1))
            ]
        )
        true = annotations_of(
            [(n, "unsafe", "smoke" if n in "ab" else "", None, False) for n in "abcd"]
        )
        rules = Rules(
            rules=(
                Rule(name="b", verdict="block", when=Condition(kind="unsafe", confidence=0.8)),
                Rule(name="h", verdict="hold", when=Condition(kind="unsafe", confidence=0.4)),
            ),
            unmentioned="pass",
        )
        counts = decide(found, rules).measured(true)
        self.assertEqual((counts.held_unsafe, counts.held_share), (1, 0.25))
        low, high = counts.intervals["held_share"]
        self.assertTrue(0 < low < 0.25 < high < 0.9, (low, high))


class Reasons(unittest.TestCase):
    def test_three_are_shown(self):
        """Three findings are named; a fourth is counted."""
        rule = Rule(name="b", verdict="block", when=Condition(kind="unsafe", confidence=0.1))
        for count, more in ((3, False), (4, True)):
            found = findings_of([("a", "unsafe", f"s{n}", 0.9, None) for n in range(count)])
            [reason] = decide(found, Rules(rules=(rule,), unmentioned="pass")).of("a").reasons
            self.assertEqual(
                (reason.count("s2"), "1 more" in reason, "0 more" in reason),
                (1, more, False),
                reason,
            )


class Names(unittest.TestCase):
    def test_two_of_one_name(self):
        """Two rules of one name are refused: nobody could tell which was meant."""
        rules = tuple(Rule(name=n, verdict="block", when=Condition(kind="unsafe")) for n in "aba")
        with self.assertRaisesRegex(ArgumentError, "two rules of one name; got 'a'"):
            Rules(rules=rules)
        self.assertEqual(len(Rules(rules=rules[:2]).rules), 2)


class Masked(unittest.TestCase):
    def test_lines_and_sentences(self):
        """Both are masked where they hold what is looked for; labels and blank rows are not."""
        rows = [
            (name, kind, "ring 0171 555 0199", 0.9, BOX if kind != "label" else None)
            for name, kind in zip("abc", ("text", "caption", "label"))
        ]
        masked, places = mask_text(
            findings_of([*rows, ("d", "text", "", None, None)]), ["telephone"]
        )
        self.assertEqual([one.image for one in places], ["a", "b"])
        self.assertEqual(masked.label.values().tolist()[2], "ring 0171 555 0199")
        self.assertNotIn("0171", "".join(masked.label.values().tolist()[:2]))


class Reviewed(unittest.TestCase):
    def test_kinds_add_up(self):
        """Words of several kinds are counted together; an image with none is left out."""
        rows = [
            ("a", "object", "x", 0.5, BOX),
            ("a", "face", "face", 0.5, BOX),
            ("b", "object", "x", 0.5, BOX),
        ]
        made = _by_kind(findings_of(rows), ["confirmed", "confirmed", ""])
        self.assertEqual(made.counts["confirmed"], 2)
        self.assertEqual(made.left_out, ("b",))
        table = made.annotations
        self.assertEqual(
            sorted(zip(table.image.values(), table.kind.values(), table.label.values())),
            [("a", "face", "face"), ("a", "object", "x")],
        )


class Copies(unittest.TestCase):
    def test_only_copies_are_named(self):
        """Of two images the one that is a copy is named as one, and blocked."""
        import numpy as np

        def prints(names, seeds):
            bits = np.array(
                [np.random.default_rng(s).integers(0, 256, 18, dtype=np.uint8) for s in seeds]
            )
            return Prints(
                names=tuple(names),
                whole=bits,
                mirrored=~bits,
                parts=np.repeat(bits[:, None], len(PARTS), axis=1),
            )

        known = prints(["old"], [1])
        found = findings_of([("a", "label", "x", 0.5, None), ("b", "label", "x", 0.5, None)])
        rules = Rules(rules=(Rule(name="r", verdict="block", when=Condition(copy_of=known)),))
        told = decide_core(found, rules, prints=prints(["a", "b"], [1, 2]))
        self.assertEqual({v.image: v.verdict for v in told}, {"a": "block", "b": "pass"})
        self.assertIn("copy of old, 1.00 alike", " ".join(told.of("a").reasons))
        self.assertNotIn("copy", " ".join(told.of("b").reasons))
