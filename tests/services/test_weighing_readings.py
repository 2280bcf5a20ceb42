"""The parts of drafting: likelihood of boxes, evidence for fields, the search, the account of fields."""

import gzip
import json
import math
import tomllib
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats

from dotledger.errors import ArgumentError
from dotledger.services.drafting import draft, whole_draft
from dotledger.services.drafting.box_drafting import box_guesses, frames_of, reported_size
from dotledger.services.drafting.box_likelihood import likelihood_of, ways_of
from dotledger.services.drafting.draft_evidence import Seen, evidence_for, meaning_of
from dotledger.services.drafting.sample_sections import groups_of
from dotledger.services.drafting.sample_trees import nothing_said

SIZE = (1200.0, 800.0)
BOXES = [(577, 234, 877, 423), (60, 486, 177, 630), (40, 30, 400, 300), (900, 500, 1190, 790)]


def frames(count, size=SIZE, working=()):
    return frames_of([size] * count, list(working))


class Boxes(unittest.TestCase):
    def test_one_box_by_hand(self):
        """The density of one box in fractions: two beta densities, and where they may begin."""
        x0, y0, x1, y1 = 0.2, 0.3, 0.5, 0.7
        [way] = [
            way
            for way in likelihood_of(np.array([[x0, y0, x1, y1]]), "corners", frames(1))
            if way.unit == "fraction"
        ]
        width, height = x1 - x0, y1 - y0
        inside = sum(
            stats.beta(1.2, 2.6).logpdf(side) - math.log(1 - side) for side in (width, height)
        )
        zero = -4 * math.log(2 * 1)
        mixed = np.logaddexp(math.log(0.99) + inside, math.log(0.01) + zero)
        shape = lambda t: stats.t(5, scale=0.7).logpdf(math.log(t))  # noqa: E731
        either = np.logaddexp(shape(width * 1200 / (height * 800)), shape(width / height))
        shaped = 0.45 * (either - math.log(2) - (shape(1) - 0.5))
        self.assertAlmostEqual(way.score, -0.7 + mixed - zero + shaped, places=9)

    def test_every_form_is_found_again(self):
        """Boxes written in each form and order read best in the same, or it is no clear lead."""
        corners = np.array(BOXES, dtype=float)
        low, size = corners[:, :2], corners[:, 2:] - corners[:, :2]
        written = {
            ("x0", "y0", "x1", "y1"): corners,
            ("y0", "x0", "y1", "x1"): corners[:, [1, 0, 3, 2]],
            ("x0", "y0", "width", "height"): np.hstack([low, size]),
            ("cx", "cy", "width", "height"): np.hstack([low + size / 2, size]),
        }
        for order, rows in written.items():
            with self.subTest(order=order):
                self.assertEqual(ways_of(rows.tolist(), frames(4))[0].order, order)

    def test_units(self):
        """Shares, percents, parts of a grid and a working size are told from pixels."""
        shares = np.array(BOXES) / np.array(SIZE * 2)
        for unit, rows, working in (
            ("fraction", shares, ()),
            ("percent", np.round(100 * shares, 3), ()),
            ("grid 65535", np.round(65535 * shares), ()),
            ("pixels", np.round(shares * np.array((512, 341) * 2), 1), [(512.0, 341.0)] * 4),
        ):
            with self.subTest(unit=unit):
                best = ways_of(rows.tolist(), frames(4, working=working))[0]
                self.assertEqual(best.unit, unit)
                self.assertTrue(np.allclose(best.corners, shares, atol=0.002))

    def test_sides_belong_together(self):
        """Sides of two objects that have nothing to do with each other are no box."""
        entries = {
            ("frame", "left"): [1.0, 5.0], ("frame", "top"): [2.0, 4.0],
            ("age", "high"): [40.0, 51.0], ("age", "width"): [9.0, 8.0],
        }  # fmt: skip
        self.assertEqual([g.form for g in box_guesses(entries, frames(2))], [])

    def test_nothing_to_weigh(self):
        """No rows, and numbers that are none, give no way of reading them."""
        self.assertEqual(likelihood_of(np.empty((0, 4)), "corners", frames(0)), [])
        self.assertEqual(likelihood_of(np.array([[math.inf, 0, 1, 1]]), "corners", frames(1)), [])

    def test_a_reported_size(self):
        """It is found wherever it stands, and is no box."""
        for part, at in (
            ({"image": {"width": 640, "height": 480}}, "image.width"),
            ([{"meta": {"size": [640, 480]}}], "[0].meta.size[0]"),
            ({"thing": {"x": 1, "y": 2, "w": 3, "h": 4}}, None),
        ):
            found = reported_size(part)
            self.assertEqual(found and found[0][0], at)


class Evidence(unittest.TestCase):
    def test_labels_and_confidences(self):
        """Words that come back are labels; ids, codes and counting numbers are none."""
        good = evidence_for("label", Seen("label", ["rope", "crate", "rope", "crate"]))[0]
        self.assertGreater(
            good, evidence_for("label", Seen("id", ["a17", "a18", "a19", "b2"]))[0] + 5
        )
        self.assertGreater(evidence_for("confidence", Seen("score", [0.3, 0.9, 0.5]))[0], 5)
        for seen in (
            Seen("rank", [1, 2, 3, 4]),
            Seen("age", [34, 51, 19]),
            Seen("height", [20, 30]),
        ):
            self.assertLess(evidence_for("confidence", seen)[0], 0, seen.name)

    def test_words_of_likelihood(self):
        """Their order is that of English, in any usual spelling."""
        words = ["VERY_LOW", "low", "Doubtful", "MAYBE", "probable", "high", "very-high"]
        meanings = [meaning_of(word) for word in words]
        self.assertEqual(meanings, sorted(meanings))
        self.assertIsNone(meaning_of("lantern"))


def things(**more):
    """Four made-up things in an image of 1200 x 800."""
    labels = ("crate", "ladder", "crate", "kettle")
    return [
        {"label": label, "score": 0.9 - n / 7, "box": list(box), **more}
        for n, (label, box) in enumerate(zip(labels, BOXES))
    ]


NAMES = st.sampled_from(
    (
        "label",
        "score",
        "box",
        "x",
        "y",
        "w",
        "h",
        "items",
        "type",
        "wider",
        "a b",
        "",
        "0",
        "r12",
        "@key",
    )
)
LEAVES = st.one_of(
    st.none(), st.booleans(), st.integers(-3, 1200), st.floats(0, 1), st.sampled_from(
        ("", "crate", "0,5 %", "12;13", "1,2,3,4", "POSSIBLE", "a > b", "#aabbcc", 1e300, 10**30)
    )
)  # fmt: skip
ANSWERS = st.recursive(
    LEAVES, lambda one: st.lists(one, max_size=5) | st.dictionaries(NAMES, one, max_size=5), max_leaves=40
)  # fmt: skip


class Anything(unittest.TestCase):
    @given(st.lists(ANSWERS, min_size=1, max_size=3), st.booleans())
    @settings(max_examples=60, deadline=None, derandomize=True)
    def test_any_answer(self, answers, sized):
        """Whatever an answer holds, a draft is made of it, or one sentence says why not."""
        sizes = [(640.0, 480.0)] * len(answers) if sized else ()
        try:
            made = whole_draft([json.dumps(answer).encode() for answer in answers], sizes)
        except ArgumentError as error:
            self.assertEqual(error.place, "SAMPLES")
            return
        tomllib.loads(made.description())
        fields = made.fields
        every = [*fields.read, *fields.attributes, *fields.unused]
        self.assertEqual(len(every), len(set(every)), "each field is named once")


class Search(unittest.TestCase):
    def test_groups(self):
        """A list, a map, lists side by side, a table, and a single object are all thought of."""
        answer = {
            "list": [{"a": 1}], "map": {"rope": 0.4, "crate": 0.6}, "one": {"label": "rope", "p": 0.4},
            "side": {"names": ["a", "b"], "scores": [1, 2]},
            "table": {"columns": ["name", "score"], "rows": [["rope", 0.5], ["crate", 0.1]]},
        }  # fmt: skip
        found = set(groups_of([(answer, SIZE)]))
        for path in (("list", "[]"), ("map", "{}"), ("one",), ("beside", "side", "names", "[]"),
                     ("table", "table", "rows", "[]")):  # fmt: skip
            self.assertIn(path, found)

    def test_every_field_once(self):
        """Each field of the samples is read, an attribute, or not used; an empty list is named."""
        answer = {"took": 12, "things": things(rank=1, glasses=True), "faces": []}
        fields = draft([answer], [SIZE]).fields
        self.assertEqual(fields.read, ["things[].label", "things[].score", "things[].box"])
        self.assertEqual(fields.attributes, ["things[].glasses"])
        self.assertEqual(fields.unused, ["took", "things[].rank", "faces"])

    def test_two_confidences(self):
        """Two numbers that may both be the confidence are a question; the file waits for it."""
        entries = [{**one, "certainty": 0.1 + n / 9} for n, one in enumerate(things())]
        made = draft([{"things": entries}], [SIZE])
        [rule] = made.rules
        self.assertEqual(len(rule.unclear["confidence"]), 2)
        self.assertIn('confidence = "not answered"', made.toml())
        self.assertIn("such as 0.9", made.toml())

    def test_what_is_no_finding(self):
        """Metadata, settings and bare lists of words are not read."""
        answer = {"model": {"name": "m-7", "version": "3"}, "modes": ["fast", "exact"], "took": 3}
        self.assertEqual(draft([answer], [SIZE]).rules, [])

    def test_parts_of_a_thing(self):
        """What stands inside a thing with a box is a part of it, and no finding of its own."""
        inner = [{"name": "left", "box": [600, 240, 640, 280], "score": 0.4}]
        made = draft([{"faces": things(eyes=inner)}], [SIZE])
        self.assertEqual([rule.each for rule in made.sure], ["faces[]"])

    def test_samples_without_findings(self):
        """What is lacking is said: an error, empty lists, or nothing like a list."""
        for documents, told in (
            ([{"error": {"code": 401}}], "says that the call failed: {'code': 401}"),
            ([{"out": {"objects": []}}], "there is nothing at out.objects"),
            ([{"error": "none", "objects": []}], "there is nothing at objects"),
            ([{"ok": True}], "looks like a list of findings"),
        ):
            self.assertIn(told, nothing_said(documents)[0])

    def test_packed(self):
        """A sample packed with gzip is unpacked; one that is damaged is refused by name."""
        raw = json.dumps({"things": things()}).encode()
        packed = gzip.compress(raw)
        self.assertEqual(whole_draft([packed]).rules[0].each, "things[]")
        with self.assertRaisesRegex(ArgumentError, "packed with gzip"):
            whole_draft([packed[:20] + b"xxxx" + packed[24:]])
        with self.assertRaisesRegex(ArgumentError, "it breaks off"):
            whole_draft([packed[:-9]])
