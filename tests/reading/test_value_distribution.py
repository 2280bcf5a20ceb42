"""The usual finding in one step: what is read so is what the rule's own readers read, to the last bit."""

import random
import unittest

import msgspec

from dotledger.core.boxes.image_frames import Frame
from dotledger.reading.answer_paths import Level
from dotledger.reading.reading_rules import ReadRule
from dotledger.reading.rule_reader import Reading, RuleReader

RULE = {"kind": "object", "each": "things[]", "label": "name", "confidence": {"at": "score"}}
LISTED = {"at": "box", "order": ["y0", "x0", "y1", "x1"], "unit": "fraction"}
BOXES = (
    {"at": "box", "order": ["x0", "y0", "x1", "y1"]},
    LISTED,
    {"at": "box", "order": ["x0", "y0", "width", "height"], "form": "corner+size", "of": "original"},
    {"at": "box", "order": ["cx", "cy", "width", "height"], "form": "centre+size", "unit": "percent"},
    {"at": "box", "fields": {"x0": "l", "y0": "t", "x1": "r", "y1": "b"}, "unit": "thousandths"},
    {"at": "", "fields": {"x0": "l", "y0": "t", "width": "w", "height": "h"}, "form": "corner+size", "unit": "grid", "grid": 7},
    {"at": "box", "fields": {"x0": "a.l", "y0": "a.t", "x1": "r", "y1": "b"}},
)  # fmt: skip
FRAMES = (Frame(640, 480, 640, 480), Frame(800, 600, 400, 300), Frame(300, 400, 300, 400, 6))
NAMES = ("Lantern", " kite ", "é", "", " ", None, 7, "x" * 10_001, "a\nb")
SHARES = (0.5, 0.0, 1.0, 1, 0, 1.01, -0.1, "0.5", "50%", None, True, False, 1e308, [0.5])
SIDES = (
    0,
    0.1,
    0.25,
    0.7,
    1,
    1.0,
    5,
    40.5,
    99,
    300,
    700,
    -1,
    1e308,
    2**63,
    "3",
    None,
    True,
    0.001,
)


def thing(rng):
    """A part of an answer: mostly usual, and in any way not."""
    usual = rng.random() < 0.5
    sides = (
        sorted(rng.choice(SIDES[:11]) for _ in range(4))
        if usual
        else [rng.choice(SIDES) for _ in range(4)]
    )
    four = [sides[0], sides[1], sides[2] + 0.25, sides[3] + 0.5] if usual else sides
    part = {
        "name": rng.choice(NAMES[:2] if usual else NAMES),
        "score": rng.choice(SHARES[:3] if usual else SHARES),
    }
    named = dict(zip("ltrb", four)) | dict(zip("wh", four[2:]))
    part |= named
    part["box"] = rng.choice((four, named, {"a": named, **named}))
    if rng.random() < 0.2:
        part["box"] = rng.choice((None, [], four[:3], "1,2,3,4", {"l": 1}, 5))
    if rng.random() < 0.1:
        part.pop(rng.choice(list(part)))
    return part if rng.random() < 0.97 else rng.choice((None, [], "x", 4))


class Usual(unittest.TestCase):
    def test_equal_to_the_readers_of_the_rule(self):
        """For each way to write a box and thousands of parts, found and notes are the same."""
        rng, usual, whole = random.Random(3), 0, 0
        for rule in self.rules():
            quick, plain = RuleReader(rule), RuleReader(rule)
            plain._usual = lambda *_: None
            for number in range(1500):
                frame, top = FRAMES[number % 3], Level({"things": [thing(rng)]}, "", 0, None)
                ours, theirs = Reading(), Reading()
                told = [
                    one.read(top, frame, None, into)
                    for one, into in ((quick, ours), (plain, theirs))
                ]
                self.assertEqual(repr((told[0], ours)), repr((told[1], theirs)), top.value)
                whole += len(ours.found)
                usual += quick._usual(top.value["things"][0], frame) is not None
        self.assertGreater(usual, 1000)
        self.assertGreater(whole, usual, "some are unusual and kept")

    def rules(self):
        """Rules with every box, and such as read more than the usual."""
        for box in BOXES:
            yield msgspec.convert({**RULE, "box": box}, ReadRule)
        for more in (
            {}, {"case": "lower", "box": LISTED}, {"always": "face", "label": "", "box": LISTED}, {"split": "/", "box": LISTED}, {"keep_if": "score > `0.4`", "box": LISTED},
            {"box": {**LISTED, "upright": False}}, {"confidence": {"at": "score", "scale": "percent"}, "box": LISTED}, {"parents": "above", "box": LISTED},
            {"attributes": {"lit": {"at": "l"}}, "box": LISTED}, {"confidence": {"at": "^score"}, "box": LISTED},
        ):  # fmt: skip
            plain = {key: value for key, value in {**RULE, **more}.items() if value != ""}
            yield msgspec.convert(plain if "box" in plain else {**plain, "kind": "label"}, ReadRule)
