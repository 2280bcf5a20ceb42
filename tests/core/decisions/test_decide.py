"""Rules: each condition worked by hand, image by image against plain loops, and who never passes."""

import random
import unittest
from dataclasses import replace

from dotledger import decide
from dotledger.core.decisions.rule_conditions import PATTERNS, Condition, Rule, Rules
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.table_origin import Origin
from dotledger.errors import ArgumentError, ScopeError
from tests.core.measurement.test_measure import annotations_of, findings_of

BOX = (0, 0, 10, 20)
FOUND = findings_of([
    ("a", "unsafe", "smoke", 0.75, None), ("a", "face", "face", 0.9, BOX), ("a", "face", "face", 0.4, (0, 0, 4, 4)),
    ("b", "unsafe", "", None, None), ("b", "face", "", None, None),
    ("c", "unsafe", "flame", 0.5, None), ("c", "unsafe", "smoke", None, None), ("c", "face", "face", 0.8, BOX),
    ("d", "unsafe", "smoke", 0.2, None), ("d", "face", "", None, None), ("d", "text", "Ring 0171 555-0199", 0.9, BOX),
])  # fmt: skip


def verdicts(when, verdict="block", findings=FOUND, **options):
    """By image the verdict of one rule, with everything else passing."""
    rules = Rules(
        rules=(Rule(name="r", verdict=verdict, when=when),),
        unmentioned="pass",
        **{k: options.pop(k) for k in ("otherwise", "words") if k in options},
    )
    return {v.image: v.verdict for v in decide(findings, rules, **options)}


def blocked(when, **options):
    return "".join(sorted(i for i, v in verdicts(when, **options).items() if v == "block"))


class Conditions(unittest.TestCase):
    def test_contradictions(self):
        """Two rules that ask the same and decide otherwise are told; the stricter one counts."""
        same = Condition(kind="face", at_least=2)
        rules = Rules(unmentioned="pass", rules=(
            Rule(name="a", verdict="block", when=same), Rule(name="b", verdict="hold", when=Condition(kind="face", at_least=2)),
            Rule(name="c", verdict="hold", when=Condition(kind="face", at_least=3)),
        ))  # fmt: skip
        self.assertEqual(rules.contradictions(), [("a", "b")])
        self.assertEqual(decide(FOUND, rules).of("a").verdict, "block")

    def test_worked(self):
        """At least and at most, on the limit; sizes; words; patterns; all, any and none."""
        face = {"kind": "face"}
        for when, wanted in (
            (Condition(kind="unsafe", labels=("smoke",), confidence=0.75), "ac"),
            (Condition(kind="unsafe", labels=("smoke",), confidence=0.76), "c"),
            (Condition(kind="unsafe", labels=("smoke", "flame"), confidence=0.1), "acd"),
            (Condition(kind="unsafe"), "acd"),
            (Condition(**face, at_least=2), "a"),
            (Condition(**face, at_most=0), "bd"),
            (Condition(**face, at_least=1, at_most=1), "c"),
            (Condition(**face, least_pixels=10), "ac"),
            (Condition(**face, least_pixels=10.5), ""),
            (Condition(**face, least_share=0.02), "ac"),
            (Condition(**face, most_share=0.01), "a"),
            (Condition(kind="text", pattern=PATTERNS["telephone"]), "d"),
            (Condition(kind="text", pattern=PATTERNS["e-mail"]), ""),
            (Condition(kind="text", pattern="ring"), "d"),
            (Condition(every=(Condition(kind="unsafe"), Condition(**face))), "ac"),
            (Condition(any_of=(Condition(kind="text"), Condition(**face, at_least=2))), "ad"),
            (Condition(every=(Condition(kind="unsafe"),), none_of=(Condition(**face),)), "d"),
        ):
            sizes = dict.fromkeys("abcd", (100.0, 100.0))
            with self.subTest(when=when):
                self.assertEqual(blocked(when, sizes=sizes), wanted)

    def test_broader_labels_and_attributes(self):
        """A finding below a broader label counts, and so does one with an attribute."""
        rows = findings_of([("a", "object", "cup", 0.9, BOX), ("b", "object", "hat", 0.9, BOX)])
        rows = replace(
            rows,
            details=(
                Details(parents=("vessel",), attributes={"glasses": False, "mood": "glad"}),
                Details(attributes={"glasses": True}),
            ),
        )
        for when, wanted in (
            (Condition(kind="object", below=("vessel",)), "a"),
            (Condition(kind="object", attribute="glasses"), "b"),
            (Condition(kind="object", attribute="mood", values=("glad", "calm")), "a"),
            (Condition(kind="object", attribute="mood", values=("sad",)), ""),
        ):
            with self.subTest(when=when):
                self.assertEqual(blocked(when, findings=rows), wanted)

    def test_values_of_attributes(self):
        """A flag is met by yes and true, with a confidence next to it, too; what can never be met is refused."""
        rows = findings_of([(n, "face", "face", 0.9, BOX) for n in "abc"])
        given = (
            {"smiling": True, "mood": "glad", "age": 30},
            {"smiling": {"value": False, "confidence": 0.9}},
            {"smiling": {"value": True, "confidence": 0.8}, "age": {"value": 1, "confidence": 0.5}},
        )
        rows = replace(rows, details=tuple(Details(attributes=one) for one in given))
        for name, values, wanted in (
            ("smiling", ("yes",), "ac"),
            ("smiling", ("True", "no"), "abc"),
            ("smiling", (False,), "b"),
            ("smiling", (), "ac"),
            ("mood", ("glad",), "a"),
            ("age", (1,), "c"),
            ("age", (30.0,), "a"),
        ):
            with self.subTest(name=name, values=values):
                self.assertEqual(
                    blocked(Condition(kind="face", attribute=name, values=values), findings=rows),
                    wanted,
                )
        for name, value, why in (
            ("smiling", "perhaps", "never has such a value.*got 'perhaps'.*true, false"),
            ("smiling", 1, "never has"),
            ("mood", True, "a word in quotes"),
            ("age", "30", "a number"),
            ("smilling", True, "did you mean 'smiling'"),
        ):
            with self.subTest(name=name, value=value), self.assertRaisesRegex(ArgumentError, why):
                blocked(Condition(kind="face", attribute=name, values=(value,)), findings=rows)

    def test_what_nothing_could_trip(self):
        """A rule that asks for what nothing in the batch has is said, and only such a one."""
        rows = findings_of([("a", "face", "face", 0.9, BOX), ("b", "object", "hat", 0.9, BOX)])
        rules = Rules(
            rules=tuple(
                Rule(name=n, verdict="hold", when=w)
                for n, w in (
                    ("beards", Condition(kind="face", attribute="beard")),
                    ("hats", Condition(kind="object", labels=("hat",))),
                    (
                        "no boats",
                        Condition(
                            every=(Condition(kind="face"),),
                            none_of=(Condition(kind="object", labels=("boat",)),),
                        ),
                    ),
                    ("at most none", Condition(kind="object", labels=("boat",), at_most=0)),
                    ("boats", Condition(kind="object", labels=("boat",))),
                    ("text", Condition(kind="text", labels=("x",))),
                )
            )
        )
        self.assertEqual(
            decide(rows, rules).notes,
            (
                "beards: no finding of this batch has the attribute beard.",
                "boats: no finding of this batch has the label boat.",
            ),
        )

    def test_a_missing_similarity(self):
        """Where a similarity is demanded, a name without one counts as none."""
        rows = findings_of([(n, "face", "face", 0.9, BOX) for n in "abc"])
        given = (
            {"name": "Old Reed"},
            {"name": {"name": "Old Reed", "similarity": 0.9}},
            {"name": {"name": "Old Reed", "similarity": 0.4}},
        )
        rows = replace(rows, details=tuple(Details(attributes=one) for one in given))
        self.assertEqual(
            blocked(Condition(kind="face", persons=("old reed",)), findings=rows), "abc"
        )
        self.assertEqual(
            blocked(
                Condition(kind="face", persons=("old reed",), least_similarity=0.8), findings=rows
            ),
            "b",
        )

    def test_words(self):
        """A word of the service's scale; one that it lacks is refused."""
        rows = replace(FOUND, origin=Origin(words={"likely": 0.7}))
        when = Condition(kind="unsafe", labels=("smoke",), confidence="likely")
        self.assertEqual(blocked(when, findings=rows), "ac")
        with self.assertRaisesRegex(ArgumentError, "unknown confidence word"):
            blocked(replace(when, confidence="perhaps"), findings=rows)

    def test_refused(self):
        """What can never be meant is named."""
        for cells, why in (
            ({}, "names a kind or outcomes"),
            ({"kind": "fase"}, "did you mean 'face'"),
            ({"kind": "face", "at_least": 2, "at_most": 1}, "contradict"),
            ({"kind": "text", "pattern": "("}, "not a regular expression"),
            ({"outcomes": ("faild",)}, "did you mean 'failed'"),
            ({"kind": "face", "every": (Condition(kind="face"),)}, "joins others"),
        ):
            with self.subTest(cells=cells), self.assertRaisesRegex(ArgumentError, why):
                Condition(**cells)
        with self.assertRaisesRegex(ArgumentError, "did you mean 'block'"):
            Rule(name="r", verdict="blok", when=Condition(kind="face"))
        with self.assertRaisesRegex(ArgumentError, "size is not known"):
            blocked(Condition(kind="face", least_share=0.1))
        with self.assertRaisesRegex(ArgumentError, "did you mean 'smoke'"):
            blocked(Condition(kind="unsafe", labels=("smok",)))

    def test_against_plain_loops(self):
        """Random rules on random findings: the strictest that applies, image by image."""
        rng = random.Random(3)
        for _ in range(60):
            rows = [
                (f"i{rng.randint(0, 9)}", "unsafe", rng.choice("xyz"), round(rng.random(), 2), None)
                for _ in range(30)
            ]
            rows += [(f"i{n}", "unsafe", "", None, None) for n in range(10)]
            made = [
                Rule(name=str(n), verdict=rng.choice(("pass", "hold", "block")),
                     when=Condition(kind="unsafe", labels=(rng.choice("xyz"),), confidence=round(rng.random(), 1), at_least=rng.randint(1, 2)))
                for n in range(4)
            ]  # fmt: skip
            got = decide(
                findings_of(rows), Rules(rules=tuple(made), otherwise="hold", unmentioned="pass")
            )
            for image in {row[0] for row in rows}:
                mine = [r for r in rows if r[0] == image and r[2]]
                hits = [
                    rule.verdict
                    for rule in made
                    if sum(r[2] in rule.when.labels and r[3] >= rule.when.confidence for r in mine) >= rule.when.at_least
                ]  # fmt: skip
                mentioned = {label for rule in made for label in rule.when.labels}
                hits += ["pass"] * any(r[2] not in mentioned for r in mine)
                wanted = max(hits, key=("pass", "hold", "block").index) if hits else "hold"
                self.assertEqual(got.of(image).verdict, wanted)


class Silence(unittest.TestCase):
    def rules(self, **options):
        when = Condition(kind="unsafe", labels=("smoke",), confidence=0.5)
        return Rules(rules=(Rule(name="smoke", verdict="block", when=when),), **options)

    def test_unmentioned_categories(self):
        """A category that no rule mentions is refused with the list, or held by a default."""
        with self.assertRaisesRegex(ArgumentError, "got 'flame'.*unmentioned = 'hold'"):
            decide(FOUND, self.rules())
        held = decide(FOUND, self.rules(unmentioned="hold"))
        self.assertEqual(held.of("c").verdict, "block")
        self.assertIn("hold, unmentioned: flame 0.50, no rule mentions it", held.of("c").reasons)
        high = decide(FOUND, self.rules(unmentioned="block", unmentioned_from=0.6))
        self.assertEqual(
            high.of("c").reasons, ("block, smoke: smoke asserted, at least 0.5 asked",)
        )

    def test_without_an_answer(self):
        """What failed, was refused or is pending never passes, whatever a rule says."""
        outcomes = {
            **{i: {"unsafe": "found"} for i in "abcd"},
            "e": {"unsafe": "failed"},
            "f": {"unsafe": "pending"},
        }
        got = decide(FOUND, self.rules(unmentioned="pass"), outcomes=outcomes)
        self.assertEqual([got.of(i).verdict for i in "ef"], ["hold", "hold"])
        self.assertEqual(got.of("e").reasons, ("hold: unsafe failed",))
        failed = Rule(name="f", verdict="block", when=Condition(outcomes=("failed",)))
        lenient = Rule(name="p", verdict="pass", when=Condition(outcomes=("pending",)))
        rules = replace(self.rules(unmentioned="pass"), rules=(failed, lenient))
        got = decide(FOUND, rules, outcomes=outcomes)
        self.assertEqual([got.of(i).verdict for i in "efb"], ["block", "hold", "pass"])
        face = Rules(
            rules=(Rule(name="r", verdict="block", when=Condition(kind="object")),),
            unmentioned="pass",
        )
        self.assertEqual(
            {v.verdict for v in decide(FOUND, face)}, {"hold"}, "nobody asked for objects"
        )

    def test_order_and_reasons(self):
        """Every reason is kept, the strictest first; the worst image comes first."""
        got = decide(FOUND, Rules(rules=(
            Rule(name="people", verdict="hold", when=Condition(kind="face", at_least=2)),
            Rule(name="smoke", verdict="block", when=Condition(kind="unsafe", labels=("smoke",), confidence=0.7)),
        ), unmentioned="pass"))  # fmt: skip
        self.assertEqual([v.image for v in got][:2], ["c", "a"])
        self.assertEqual(got.of("a").reasons, (
            "block, smoke: smoke 0.75, at least 0.7 asked",
            "hold, people: face 0.90, face 0.40, at least 2 of them",
        ))  # fmt: skip
        self.assertEqual(got.of("b").reasons, ("no rule applies: pass",))
        self.assertEqual(got.counts, {"block": 2, "hold": 0, "pass": 2})
        with self.assertRaises(KeyError):
            got.of("z")

    def test_measured(self):
        """Caught, held, let through; safe ones too; doubtful ones are left out."""
        true = annotations_of([("a", "unsafe", "smoke", None, False), ("b", "unsafe", "smoke", None, False),
                               ("c", "unsafe", "smoke", None, True), ("d", "unsafe", "", None, False)])  # fmt: skip
        found = decide(FOUND, self.rules(unmentioned="pass")).measured(true)
        self.assertEqual(
            (found.caught, found.let_through, found.rightly_passed, found.left_out), (1, 1, 1, 1)
        )
        self.assertEqual(
            (found.let_through_share, found.false_alarm_rate, found.held_share), (0.5, 0.0, 0.0)
        )
        with self.assertRaises(ScopeError):
            decide(FOUND, self.rules(unmentioned="pass")).measured(annotations_of([]))
