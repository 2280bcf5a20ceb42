"""Drafting descriptions: the simulated services' dialects, and eight further invented shapes."""

import json
import unittest
from collections import Counter
from pathlib import Path

from dotledger.core.boxes.image_frames import Frame
from dotledger.errors import DescriptionError
from dotledger.json_codec import to_json
from dotledger.services.answer_reading import Reader
from dotledger.services.drafting import described_draft, draft, read_samples
from dotledger.services.drafting.draft_questions import ask_about_rules
from dotledger.services.service_description import parse_description
from dotledger.standins.chalk import EYES as CHALK_EYES
from dotledger.standins.chalk import _seen as chalk_seen
from dotledger.standins.demo_scenes import RECIPES, draw_scene
from dotledger.standins.evening_demo import description_text
from dotledger.standins.flint import EYES as FLINT_EYES
from dotledger.standins.flint import _answer as flint_answer
from dotledger.standins.marl import EYES as MARL_EYES
from dotledger.standins.marl import _answer as marl_answer
from dotledger.standins.simulated_vision import look, open_upright
from tests.services.answer_grammar import drawn

KINDS = ("label", "object", "face", "unsafe")
WORDS = ("absent", "doubtful", "likely", "plain")

# What two made-up images hold, written by hand: (label, confidence, box) in pixels.
SIZES = [(800.0, 600.0), (640.0, 480.0)]
TRUTH = [
    [("lantern", 0.9, (80, 60, 240, 300)), ("stool", 0.4, (400, 300, 560, 480))],
    [
        ("lantern", 0.75, (64, 48, 256, 192)),
        ("banner", 0.55, (320, 96, 400, 336)),
        ("stool", 0.25, (480, 240, 608, 384)),
    ],
]


def shaped(entry, wrap):
    """Answers in an invented dialect: `entry` writes one thing, `wrap` the whole."""
    return [
        wrap([entry(label, c, b, size) for label, c, b in things])
        for things, size in zip(TRUTH, SIZES)
    ]


def by_label(entry):
    def wrap_of(things, size):
        grouped = {}
        for label, c, b in things:
            grouped.setdefault(label, []).append(entry(label, c, b, size))
        return {"seen": [{"name": label, "instances": found} for label, found in grouped.items()]}

    return [wrap_of(things, size) for things, size in zip(TRUTH, SIZES)]


SHAPES = {
    "corners as an object, fraction confidence": shaped(
        lambda n, c, b, s: {
            "label": n,
            "confidence": c,
            "box": {"left": b[0], "top": b[1], "right": b[2], "bottom": b[3]},
        },
        lambda found: {"objects": found},
    ),
    "corner and size as an object, percent": shaped(
        lambda n, c, b, s: {
            "name": n,
            "score": c * 100,
            "area": {"x": b[0], "y": b[1], "width": b[2] - b[0], "height": b[3] - b[1]},
        },
        lambda found: {"result": {"things": found}},
    ),
    "fractions in a list, rows first": shaped(
        lambda n, c, b, s: {
            "class": n,
            "probability": c,
            "where": [b[1] / s[1], b[0] / s[0], b[3] / s[1], b[2] / s[0]],
        },
        lambda found: found,
    ),
    "corners in a list of pixels": shaped(
        lambda n, c, b, s: {"tag": n, "sure": c * 1000, "at": list(map(float, b))},
        lambda found: {"answer": {"list": found, "took": 12}},
    ),
    "two points": shaped(
        lambda n, c, b, s: {
            "title": n,
            "certainty": c,
            "from": {"x": b[0], "y": b[1]},
            "to": {"x": b[2], "y": b[3]},
        },
        lambda found: {"found": found},
    ),
    "polygon of pairs in percent": shaped(
        lambda n, c, b, s: {
            "concept": n,
            "level": c,
            "outline": [
                [100 * x / s[0], 100 * y / s[1]]
                for x, y in ((b[0], b[1]), (b[2], b[1]), (b[2], b[3]), (b[0], b[3]))
            ],
        },
        lambda found: {"shapes": found},
    ),
    "text confidences, centre and size": shaped(
        lambda n, c, b, s: {
            "what": n,
            "confidence": f"{c * 100}%",
            "cx": (b[0] + b[2]) / 2,
            "cy": (b[1] + b[3]) / 2,
            "w": b[2] - b[0],
            "h": b[3] - b[1],
        },
        lambda found: {"items": found, "model": "x"},
    ),
    "occurrences within labels": by_label(
        lambda n, c, b, s: {
            "score": c,
            "region": {"xmin": b[0], "ymin": b[1], "xmax": b[2], "ymax": b[3]},
        },
    ),
}


def _knowing(shape):
    """Return what answers questions about a shape, as somebody who knows the service."""
    first = '["y0", "x0", "y1"' if "rows first" in shape else ""
    return lambda _, allowed: next(one for one in allowed if first in one)


def findings(reading):
    return sorted(
        (f.kind, f.label, round(f.confidence, 6), tuple(round(v, 3) for v in f.box or ()))
        for f in reading.found
    )


class SimulatedDialects(unittest.TestCase):
    def compared(self, name, make, eyes, wrap=lambda part: part, ask=None):
        """Draft from answers about twenty scenes, and read them by both descriptions."""
        scenes = [open_upright(draw_scene(recipe).data) for recipe in RECIPES[:24]]
        answers = [wrap(make(look(scene, eyes))) for scene in scenes]
        made = draft(answers, [scene.size for scene in scenes], words=WORDS)
        if ask is not None:
            ask_about_rules(made, ask)
        mine = parse_description(described_draft(made, name=name, address="http://h"))
        shipped = parse_description(description_text(name))
        for scene, answer in zip(scenes, answers):
            frame, raw = Frame(*scene.size, *scene.size), to_json(answer)
            [wanted] = Reader(shipped).read(raw, shipped.call[0].name, KINDS, [frame])
            [got] = Reader(mine).read(raw, mine.call[0].name, KINDS, [frame])
            self.assertEqual(findings(got), findings(wanted), made.toml())
        return made

    def test_flint(self):
        """Nested occurrences, thousandths, ordered words; that rows go first is asked once.

        All scenes are of one size, and nothing in fractions of it tells x from y.
        """
        asked = []

        def ask(text, allowed):
            asked.append(text)
            return next(one for one in allowed if '["y0", "x0"' in one)

        make = lambda s: flint_answer(s, {"labels", "faces", "safety"})  # noqa: E731
        made = self.compared("flint", make, FLINT_EYES, ask=ask)
        self.assertEqual(asked, ["The box at labels[].occurrences[]"])
        self.assertEqual(made.questions, [])

    def test_marl(self):
        """Centre and size, percent, points, a tree of categories."""
        self.compared(
            "marl", lambda s: marl_answer(s, {"tags", "things", "faces", "hazards"}), MARL_EYES
        )

    def test_chalk(self):
        """Several images by id, polygons in the reported working size."""
        wants = ["tags", "shapes", "faces", "flags"]
        made = self.compared(
            "chalk",
            lambda s: chalk_seen(s, wants),
            CHALK_EYES,
            lambda part: {"results": [{"ref": "0", **part}]},
        )
        self.assertEqual(
            made.envelope,
            {"images": "results[]", "id": "ref", "width": "canvas.w", "height": "canvas.h"},
        )

    def test_the_order_of_words_is_asked(self):
        """Without being told, the order of words is a question, and whether these are all."""
        made = draft([{"safety": {"smoke": "plain", "fire": "absent"}}])
        self.assertEqual(
            made.questions,
            [
                "the order of the words absent, plain, from low to high",
                "which further words the scale at safety{} has",
            ],
        )


class InventedShapes(unittest.TestCase):
    def test_eight_shapes(self):
        """Each invented dialect is drafted so that the things written into it come back."""
        for name, answers in SHAPES.items():
            with self.subTest(shape=name):
                made = draft(answers, SIZES)
                ask_about_rules(made, _knowing(name))
                text = described_draft(made, name="mine", address="http://h")
                readings = read_samples(text, [json.dumps(a).encode() for a in answers], SIZES)
                for reading, things in zip(readings, TRUTH):
                    got = sorted(
                        (f.label, round(f.confidence, 6), tuple(round(v, 3) for v in f.box))
                        for f in reading.found
                        if f.kind == "object"
                    )
                    self.assertEqual(
                        got, sorted((n, c, tuple(map(float, b))) for n, c, b in things), made.toml()
                    )

    def judged(self, answers, sizes, truth, near=0.006):
        """Return right, asked, wrong or nothing: what a draft makes of answers."""
        raw = [json.dumps(a).encode() for a in answers]
        known = [tuple(map(float, s)) for s in sizes]
        made = draft(answers, known)
        if made.questions:
            return "asked"
        if not made.sure:
            return "nothing"
        readings = read_samples(described_draft(made, name="mine", address="http://h"), raw, known)
        right = all(self.same(r.found, things, near) for r, things in zip(readings, truth))
        return "right" if right else "wrong"

    def same(self, found, things, near):
        """Tell whether what was read is what a person would read."""
        mine = sorted(
            (f.kind, f.label.lower().rpartition("/")[2], f.confidence, f.box) for f in found
        )
        left = sorted((k, n.lower().rpartition("/")[2], c, b) for k, n, c, b in things)
        return len(mine) == len(left) and all(
            a[:2] == b[:2]
            and (a[2] is None) == (b[2] is None)
            and abs((a[2] or 0) - (b[2] or 0)) <= near
            and (a[3] is None) == (b[3] is None)
            and max((abs(x - y) for x, y in zip(a[3] or (), b[3] or ())), default=0) <= 2.5
            for a, b in zip(mine, left)
        )

    def test_the_shapes(self):
        """None is wrong in silence, and nearly all are right without a question.

        The eighth rounds its percents, by up to 0.01.
        """
        counts = Counter()
        for folder in sorted((Path(__file__).parent / "shapes").glob("s*")):
            wanted = json.loads((folder / "expected.json").read_text())
            names = sorted(wanted["findings"])
            answers = [json.loads((folder / f"{name}.json").read_text()) for name in names]
            truth = [
                [(f["kind"], f["label"], f["confidence"], f["box"]) for f in wanted["findings"][n]]
                for n in names
            ]
            sizes = [wanted["sizes"][name] for name in names]
            verdict = self.judged(answers, sizes, truth, 0.0101 if folder.name == "s08" else 0.006)
            self.assertIn(verdict, ("right", "asked"), folder.name)
            counts[verdict] += 1
        self.assertGreaterEqual(counts["right"], 41, counts)

    def test_services_that_nobody_thought_of(self):
        """Of random ones most are right without a question; hardly one is wrong in silence."""
        counts = Counter()
        for seed in range(1000, 1060):
            sizes, answers, truth = drawn(seed)
            counts[self.judged(answers, sizes, truth)] += 1
        self.assertGreaterEqual(counts["right"], 42, counts)
        self.assertLessEqual(counts["wrong"], 1, counts)

    def test_a_section_that_may_be_missing(self):
        """A section that some sample lacks is optional; what no rule reads is named."""
        tags, faces = [{"tag": "a", "score": 0.5}], [{"score": 0.9, "box": [0, 0, 9, 9]}]
        made = draft([{"tags": tags, "faces": faces}, {"tags": tags, "hints": [{"a": [1]}]}])
        self.assertEqual(
            {r.each: r.optional for r in made.rules}, {"tags[]": False, "faces[]": True}
        )
        self.assertEqual(made.fields.unused, ["hints"])
        self.assertIn("# Not used: hints", made.toml())

    def test_a_rule_that_reads_something_else_is_left_open(self):
        """A box that lies outside every image is a comment, and the draft still loads."""
        answers = [
            {
                "tags": [{"tag": "a", "score": 0.5}],
                "things": [{"tag": "b", "score": 0.5, "box": {"x": 5000, "y": 1, "w": 9, "h": 9}}],
            }
        ]
        made = draft(answers, [(640.0, 480.0)])
        self.assertEqual([r.each for r in made.sure], ["tags[]"])
        self.assertTrue(any("things[]: 0 of 1 parts" in q for q in made.questions), made.questions)
        text = described_draft(made, name="mine", address="http://h")
        self.assertEqual(parse_description(text).kinds, ("label",))

    def test_reasons(self):
        """Every rule says why; two ways of reading a box are a question, in the place of the box."""
        text = draft(SHAPES["corners in a list of pixels"], SIZES).toml()
        self.assertIn("# label tag: its name is one for labels", text)
        squares = [{"things": [{"tag": "stool", "score": 0.5, "at": [10, 20, 60, 70]}] * 3}]
        made = draft(squares, [(640.0, 480.0)])
        self.assertIn("the box at things[]", made.questions[0])
        with self.assertRaisesRegex(DescriptionError, r"read\.0\.box: a question of the draft"):
            parse_description(made.description())
        self.assertIn("# Assumed: the samples do not tell the box.", made.toml(assume=True))
        parse_description(made.description(assume=True))

    def test_one_field_has_one_scale(self):
        """Small values alone do not make fractions where the same field is larger elsewhere."""
        made = draft(
            [{"tags": [{"tag": "a", "score": 88.5}], "flags": [{"about": "b", "score": 0.4}]}]
        )
        self.assertEqual(
            [rule.confidence for rule in made.rules], ['{ at = "score", scale = "percent" }'] * 2
        )

    def test_nothing_recognised(self):
        """Answers without anything like a finding give no rule."""
        for answer in ({}, [], {"ok": True}, {"list": [1, 2]}, None, {"a": [{"b": 1}]}):
            self.assertEqual(draft([answer]).rules, [])
