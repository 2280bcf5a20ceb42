"""Descriptions that are wrong in one place: none ends in plausible numbers without a word."""

import re
import tempfile
import unittest
from pathlib import Path

import numpy as np
import pandas as pd

from dotledger import send
from dotledger.api.rereading import reread
from dotledger.core.measurement.suspicious_readings import suspicions
from dotledger.core.tables.findings_table import Findings
from dotledger.errors import DescriptionError
from dotledger.ledger.batch_queries import find_batch
from dotledger.ledger.finding_queries import notes_of
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.services.service_description import parse_description
from dotledger.standins.demo_scenes import RECIPES, draw_scene
from dotledger.standins.evening_demo import description_of, description_text, running
from dotledger.standins.service_misbehaviour import parse_trouble
from tests.campaigns.wrong_descriptions import RIGHT, WRONG, Campaign

SCALES = ("fraction", "percent", "thousandths")
UNITS = ("fraction", "percent", "thousandths", "pixels")


def edits(text):
    """Yield (what, text) with one edit each in the reading rules: path, scale, unit, kind, section, type."""
    start = text.index("[[read]]")
    for match in re.finditer(r'\b(each|label|at) = "([^"@^]+)"', text[start:]):
        old, path = match[0], match[2]
        inner = re.sub(r"\w(?=\W*$)", "q", path, count=1)
        yield f"path {path}", _at(text, start + match.start(), old, old.replace(path, inner))
        if match[1] == "each":
            other = path.replace("[]", "{}") if "[]" in path else path.replace("{}", "[]")
            yield f"section {path}", _at(text, start + match.start(), old, f'each = "{other}"')
    for match in re.finditer(r'scale = "(\w+)"', text[start:]):
        for scale in SCALES:
            if match[1] in SCALES and scale != match[1]:
                yield (
                    f"scale {scale}",
                    _at(text, start + match.start(), match[0], f'scale = "{scale}"'),
                )
    for match in re.finditer(r'unit = "(\w+)"', text[start:]):
        for unit in UNITS:
            if (
                match[1] in UNITS
                and unit != match[1]
                and "attributes" not in _line(text, start + match.start())
            ):
                yield f"unit {unit}", _at(text, start + match.start(), match[0], f'unit = "{unit}"')
    for match in re.finditer(r'^kind = "(\w+)"', text[start:], re.MULTILINE):
        other = "label" if match[1] != "label" else "caption"
        yield f"kind {match[1]}", _at(text, start + match.start(), match[0], f'kind = "{other}"')
    for match in re.finditer(r'type = "(\w+)"', text[start:]):
        for kind in ("range", "shares"):
            yield f"type {kind}", _at(text, start + match.start(), match[0], f'type = "{kind}"')


def _at(text, place, old, new):
    return text[:place] + new + text[place + len(old) :]


def _line(text, place):
    return text[text.rfind("\n", 0, place) : text.find("\n", place)]


class WrongDescriptions(unittest.TestCase):
    def test_one_edit_each(self):
        """At least twenty wrong descriptions of each service: refused, unread, noted or suspicious."""
        scenes = {s.name: s.data for s in map(draw_scene, RECIPES)}
        silent = []
        for name in ("flint", "marl", "chalk"):
            with tempfile.TemporaryDirectory() as home, running(name, parse_trouble("")) as up:
                path = Path(home) / "l"
                send(scenes, description_of(up), ledger=path, key=up.service.key)
                tried = 0
                for what, text in edits(description_text(name)):
                    tried += 1
                    if (fault := self.silent(path, text)) is not None:
                        silent.append((name, what, fault))
            self.assertGreaterEqual(tried, 20, name)
        self.assertEqual(silent, [])

    def silent(self, path, text):
        """Read the answers anew; return what changed if nothing is said about it."""
        try:
            described = parse_description(text)
        except DescriptionError as error:
            self.assertTrue(str(error))
            return None
        with LedgerStore(path) as ledger:
            first = find_batch(ledger, batch=1, reading=1)
            before = notes_of(ledger, first)
            result = reread(ledger, first, described, now=2e9)
            if not result.differences:
                return None
            anew = find_batch(ledger, batch=1, reading=result.reading)
            said = notes_of(ledger, anew) != before
        return None if said or result.unreadable or result.suspicions else result.differences[0]


class OnPhotographs(unittest.TestCase):
    def test_hardly_one_without_a_word(self):
        """Of 39 wrong descriptions at most four end without a word, and none of those near zero."""
        with tempfile.TemporaryDirectory() as home:
            campaign = Campaign(Path(home))
            for name in RIGHT:
                self.assertEqual(campaign.right(name)[0], [], name)
            said = [campaign.said(*wrong) for wrong in WRONG]
        self.assertEqual(len(said), 39)
        silent = [one for one in said if not one.words]
        self.assertLessEqual(len(silent), 4, silent)
        self.assertEqual([one for one in silent if not one.recall >= 0.1], [])
        by_name = {one.what: one.words for one in said}
        self.assertIn('the description then says of = "sent"', by_name["pixels of the original"])
        self.assertIn("the description then says upright = false", by_name["upright image"])
        self.assertIn(
            "fractions read as log-odds?", by_name["log-odds for confidences in fractions"]
        )


class AsAWhole(unittest.TestCase):
    def made(self, boxes, confidences=None, images=None):
        """Findings of objects with these boxes (shares of 1000 pixels), one an image by default."""
        confidences = confidences or [0.3 + 0.6 * (n * 7 % 11) / 11 for n in range(len(boxes))]
        images = images or [f"i{n}" for n in range(len(boxes))]
        rows = [
            {"image": i, "kind": "object", "label": "bell", "confidence": c, "x0": 1000 * b[0], "y0": 500 * b[1], "x1": 1000 * b[2], "y1": 500 * b[3]}
            for b, c, i in zip(boxes, confidences, images)
        ]  # fmt: skip
        sizes = dict.fromkeys(images[::2], (1000.0, 500.0))
        sizes |= dict.fromkeys(images[1::2], (2000.0, 1000.0))
        for row in rows:
            factor = sizes[row["image"]][0] / 1000
            row.update({side: row[side] * factor for side in ("x0", "y0", "x1", "y1")})
        return Findings.from_frame(pd.DataFrame(rows)), sizes

    def spread(self, count, far=1.0):
        rng = np.random.default_rng(3)
        low = rng.uniform(0, 0.5, (count, 2)) * far
        return np.hstack([low, low + rng.uniform(0.1, 0.45, (count, 2)) * far])

    def test_nothing_is_said_of_what_is_right(self):
        """Boxes anywhere, some at an edge, confidences of all sizes."""
        boxes = self.spread(60)
        boxes[:8, 2] = 1.0
        self.assertEqual(suspicions(*self.made(boxes)), [])

    def test_grids(self):
        """Boxes that end at 1000 of 1024, or at 999 of 1000, whatever the image's size."""
        for counted, read_as in ((1000, 1024), (999, 1000)):
            boxes = self.spread(60, counted / read_as)
            boxes[:8, 2] = counted / read_as
            [said] = suspicions(*self.made(boxes))
            self.assertIn(f"a grid of {counted} read as one of {read_as}?", said)

    def test_an_answer_given_twice(self):
        """Equal boxes and confidences of different images are told, also where their sizes differ."""
        boxes = self.spread(40)
        boxes[31] = boxes[30]
        confidences = [0.3 + 0.015 * n for n in range(40)]
        confidences[31] = confidences[30]
        [said] = suspicions(*self.made(boxes, confidences))
        self.assertEqual(
            said,
            "object: 2 images have exactly the findings of another one (i30 and i31): copies, or an answer given twice?",
        )
        several = [f"i{n // 2}" for n in range(40)]
        self.assertEqual(suspicions(*self.made(boxes, confidences, several)), [], "one of two")

    def test_labels_given_twice(self):
        """Three labels with the same fine confidences are told; words, and two digits, are not."""
        rng = np.random.default_rng(5)
        for digits, told in ((4, 1), (2, 0)):
            fixed = np.round(rng.uniform(0.3, 0.9, (20, 3)), digits)
            fixed[11] = fixed[4]
            rows = [
                (f"i{n}", "label", name, float(c), None)
                for n in range(20)
                for name, c in zip(("night", "street", "crowd"), fixed[n])
            ]
            said = suspicions(
                Findings.from_frame(
                    pd.DataFrame(
                        rows, columns=["image", "kind", "label", "confidence", "box"]
                    ).drop(columns="box")
                ),
                {},
            )
            self.assertEqual(
                sum("exactly the findings of another one (i11 and i4)" in one for one in said), told
            )

    def test_equal_in_part_is_not_equal(self):
        """Two images share three labels with fine confidences, and differ in a fourth: nothing is said."""
        rng = np.random.default_rng(6)
        fixed = np.round(rng.uniform(0.3, 0.9, (20, 3)), 4)
        fixed[11] = fixed[4]
        rows = [
            (f"i{n}", "label", name, float(c))
            for n in range(20)
            for name, c in zip(("night", "street", "crowd"), fixed[n])
        ]
        rows += [("i4", "label", "moon", 0.9), ("i11", "label", "moon", 0.8)]
        table = Findings.from_frame(
            pd.DataFrame(rows, columns=["image", "kind", "label", "confidence"])
        )
        self.assertEqual([one for one in suspicions(table, {}) if "exactly" in one], [])

    def test_words_are_alike(self):
        """Words of a scale have few numbers: images that have the same are no wonder."""
        rows = [
            (f"i{n}", "unsafe", name, (0.125, 0.375, 0.625)[(n + k) % 2], None)
            for n in range(30)
            for k, name in enumerate(("smoke", "flame", "glass"))
        ]
        table = Findings.from_frame(
            pd.DataFrame(rows, columns=["image", "kind", "label", "confidence", "box"]).drop(
                columns="box"
            )
        )
        self.assertEqual([one for one in suspicions(table, {}) if "exactly" in one], [])

    def test_half_of_the_range(self):
        """Fifty confidences of which none is above 0.5, and boxes that stop halfway."""
        self.assertIn(
            "no confidence of 60 is above 0.45: another range?",
            suspicions(*self.made(self.spread(60), [0.2 + 0.25 * n / 59 for n in range(60)]))[0],
        )
        self.assertRegex(
            suspicions(*self.made(self.spread(60, 0.55)))[0], "no box of 60 reaches beyond 0.49"
        )
