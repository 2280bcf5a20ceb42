"""What is written beside boxes, where it stands, and what is decided above the picture."""

import json
import random
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import numpy as np
from PIL import Image

from dotledger import draw
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.table_origin import Origin
from dotledger.errors import ArgumentError
from dotledger.report.pictures.box_marks import Badge, Mark, draw_marks
from dotledger.report.pictures.box_writing import BoxWriting, box_writing
from dotledger.report.pictures.label_placing import place_tags
from tests.core.measurement.test_measure import findings_of
from tests.forked import dotledger as command

FACE = Details(
    attributes={
        "mood": {"shares": {"calm": 0.7, "glad": 0.3}, "leading": "calm"},
        "age": {"value": 34.4, "unit": "years"},
        "masked": True,
        "worn": {"list": ["hat", "scarf"], "shares": {"hat": 0.9, "scarf": 0.6}},
    }
)


class Texts(unittest.TestCase):
    def test_the_default_for_faces(self):
        """The person's name; else what the description marks, as far as it is there; else the label."""
        shown = BoxWriting(shown=("mood", "age", "masked", "worn", "glasses"))
        named = Details(attributes={"name": {"name": "Old Reed", "similarity": 0.914}})
        for writing, kind, details, text in (
            (shown, "face", FACE, "calm, 34.4, masked, hat, scarf"),
            (shown, "face", named, "Old Reed 0.91"),
            (shown, "face", Details(attributes={"name": {"name": ""}}), "face 0.93"),
            (shown, "face", None, "face 0.93"),
            (shown, "object", FACE, "face 0.93"),
            (BoxWriting(), "face", FACE, "face 0.93"),
            (BoxWriting(confidence="percent"), "face", None, "face 93%"),
        ):
            self.assertEqual(writing.text(kind, "face", 0.93, details), text)

    def test_own_words(self):
        """Labels, values and entries of lists in the user's language; a person's name as it is."""
        rows = [("a", "face", "face", 0.93, (0, 0, 9, 9))]
        from dataclasses import replace

        found = replace(findings_of(rows), details=(FACE,), origin=Origin(shown=("mood", "worn")))
        words = {"Calm": "ruhig", "face": "Gesicht", "hat": "Hut", "Calm Reed": "x"}
        for write, details, text in (
            (None, FACE, "ruhig, Hut, scarf"),
            (None, None, "Gesicht 0.93"),
            ("{label}: {mood}, {worn}", FACE, "Gesicht: ruhig, Hut, scarf"),
            ("{person}", Details(attributes={"name": "calm"}), "calm"),
            ("{person}", None, "Gesicht"),
        ):
            writing = box_writing(found, write=write, words=words)
            self.assertEqual(writing.text("face", "face", 0.93, details), text)
        for wrong, message in (
            ({"write": "{shoe}"}, "no finding has a field 'shoe'"),
            ({"place": "left"}, "place: not known; got 'left'; allowed: near, above"),
            ({"confidence": "odds"}, "confidence: not known"),
        ):
            with self.assertRaisesRegex(ArgumentError, message):
                box_writing(found, **wrong)


class Places(unittest.TestCase):
    def test_where_it_was_asked(self):
        """With room, a tag stands where it was asked for; without, elsewhere or as a number."""
        box = [(100, 100, 200, 180)]
        for where, spot in (
            ("above", (100, 80, 160, 100)),
            ("below", (100, 180, 160, 200)),
            ("inside", (100, 100, 160, 120)),
        ):
            [placed] = place_tags(box, [(60, 20)], [(20, 20)], (300, 300), where)
            self.assertEqual((placed.spot, placed.full), (spot, True))
        # Nothing is above the first row of pixels: it goes below.
        [placed] = place_tags([(100, 0, 200, 80)], [(60, 20)], [(20, 20)], (300, 300), "above")
        self.assertEqual(placed.spot[1], 80)

    def test_covers_nothing(self):
        """Wherever it was asked for: no tag leaves the picture, or covers a tag or another's small box."""
        rng = random.Random(4)
        for _ in range(60):
            boxes, sizes = [], []
            for _ in range(rng.randint(1, 40)):
                x, y, w, h = (rng.uniform(0, 560), rng.uniform(0, 360), rng.uniform(6, 160), rng.uniform(6, 160))  # fmt: skip
                boxes.append((x, y, min(x + w, 600), min(y + h, 400)))
                sizes.append((rng.uniform(20, 120), 16))
            for where in ("above", "below", "inside"):
                placed = place_tags(boxes, sizes, [(26, 16)] * len(boxes), (600, 400), where)
                spots = [one.spot for one in placed if one.spot is not None]
                for n, spot in enumerate(spots):
                    self.assertTrue(
                        spot[0] >= 0 and spot[2] <= 600 and spot[1] >= 0 and spot[3] <= 400
                    )
                    self.assertFalse(any(crosses(spot, other) for other in spots[n + 1 :]))
                for n, one in enumerate(placed):
                    if one.spot is None:
                        continue
                    area = sizes[n][0] * 16 if one.full else 26 * 16
                    for m, box in enumerate(boxes):
                        small = (box[2] - box[0]) * (box[3] - box[1]) < 6 * area
                        if small and not (m == n and where == "inside"):
                            self.assertFalse(crosses(one.spot, box))


def crosses(a, b):
    return a[0] < b[2] - 0.1 and b[0] < a[2] - 0.1 and a[1] < b[3] - 0.1 and b[1] < a[3] - 0.1


class Badges(unittest.TestCase):
    def test_above_the_picture(self):
        """A badge is a strip above: the picture below it is the same to the pixel."""
        image = Image.fromarray(np.random.default_rng(1).integers(0, 255, (120, 200, 3), np.uint8))
        marks = [Mark(box=(20, 30, 80, 90), text="face 0.90", label="face")]
        plain = np.asarray(draw_marks(image, marks))
        colours = set()
        for verdict in ("pass", "hold", "block"):
            drawn = draw_marks(
                image, marks, badge=Badge(verdict=verdict, why="crowds: 6 faces, " * 9)
            )
            high = drawn.height - plain.shape[0]
            self.assertGreater(high, 0)
            np.testing.assert_array_equal(np.asarray(drawn)[high:], plain)
            colours.add(drawn.getpixel((0, 0)))
        self.assertEqual(len(colours), 3)

    def test_what_a_badge_says(self):
        """The reasons, which name the verdict themselves; the verdict alone where there is none."""
        image = Image.new("RGB", (900, 60))
        for why, text in (("hold, hazards: smoke 0.91", "hold, hazards: smoke 0.91"), ("", "hold")):
            with mock.patch("dotledger.report.pictures.box_marks.write") as written:
                draw_marks(image, [], badge=Badge(verdict="hold", why=why))
            self.assertEqual([call.args[2] for call in written.call_args_list], [text])

    def test_by_rules(self):
        """Each picture has the verdict that rules have for it: sizes of boxes and images count."""
        home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (home / "photos").mkdir()
        for name in ("big.png", "small.png"):
            Image.new("RGB", (100, 100), (40, 40, 60)).save(home / "photos" / name)
        rows = [("big.png", 0, 0, 60, 60), ("small.png", 0, 0, 20, 20)]
        (home / "found.csv").write_text(
            "image,kind,label,confidence,x0,y0,x1,y1\n"
            + "".join(f"{i},face,face,0.9,{a},{b},{c},{d}\n" for i, a, b, c, d in rows)
        )
        (home / "rules.toml").write_text(
            'rules_file = 1\n[[rule]]\nname = "near faces"\nverdict = "block"\n'
            'kind = "face"\nleast_share = 0.2\n'
        )
        args = ("draw", "photos", "--findings", "found.csv", "--rules", "rules.toml")
        done = command(*args, "--out", "out", "--json", cwd=home)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(len(json.loads(done.stdout)["pictures"]), 2)
        strips = {n: Image.open(home / "out" / f"{n}.png").getpixel((0, 0)) for n in ("big.png", "small.png")}  # fmt: skip
        self.assertEqual(strips["big.png"], (255, 120, 120))
        self.assertEqual(strips["small.png"], (62, 224, 195))

    def test_images_that_are_named_differently(self):
        """The outcome of an image counts for its verdict also where its file has another name."""
        home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (home / "photos").mkdir()
        Image.new("RGB", (60, 60)).save(home / "photos" / "a.png")
        (home / "rules.toml").write_text(
            'rules_file = 1\n[[rule]]\nname = "half known"\nverdict = "hold"\noutcome = "failed"\n'
        )
        found = findings_of([("walk/a.png", "face", "face", 0.9, (5, 5, 20, 20))])
        for outcome, colour in (("failed", (255, 206, 84)), ("empty", (62, 224, 195))):
            outcomes = {"walk/a.png": {"face": "found", "label": outcome}}
            drawn = draw(
                found, home / "photos", home / outcome, rules=home / "rules.toml", outcomes=outcomes
            )
            self.assertTrue(drawn.matched)
            with Image.open(drawn.pictures[0]) as picture:
                self.assertEqual(picture.getpixel((0, 0)), colour)

    def test_words_of_a_file(self):
        """A table of words is read; one that lacks a column, or contradicts itself, is refused."""
        home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        Image.new("RGB", (60, 60)).save(home / "a.png")
        found = "image,kind,label,confidence,x0,y0,x1,y1\na.png,face,face,0.9,5,30,50,50\n"
        (home / "found.csv").write_text(found)
        args = ("draw", "a.png", "--findings", "found.csv", "--out", "out", "--words", "w.csv")
        for text, message in (
            ("word,written\nface,Gesicht\n", None),
            ("word,said\nface,Gesicht\n", "no column written"),
            ("word,written\nface,Gesicht\nface,Antlitz\n", "a word is written in two ways"),
        ):
            (home / "w.csv").write_text(text)
            done = command(*args, "--replace", cwd=home)
            self.assertEqual(done.returncode, 0 if message is None else 2, done.stderr)
            self.assertIn(message or "", done.stderr)
        for words in (("show", "a.png", "--write", "{label}"), ("search", "--place", "above")):
            done = command(*words, cwd=home)
            self.assertEqual(done.returncode, 2)
            self.assertRegex(done.stderr, "goes with --(picture|sheet)")


if __name__ == "__main__":
    unittest.main()
