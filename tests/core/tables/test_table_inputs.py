"""Tables in each other's place, and tables where none is wanted, are refused by name."""

import unittest

import pandas as pd

import dotledger

_WHERE = {
    "image": ["a.jpg", "b.jpg"],
    "kind": ["object"] * 2,
    "label": ["lantern"] * 2,
    "x0": [0, 0],
    "y0": [0, 0],
    "x1": [10, 10],
    "y1": [10, 10],
}
FOUND = dotledger.Findings.from_frame(pd.DataFrame({**_WHERE, "confidence": [0.9, 0.8]}))
TRUE = dotledger.Annotations.from_frame(pd.DataFrame(_WHERE))

# What is called, and the argument that the error must name.
_WRONG = [
    (lambda d: d.measure(TRUE, FOUND), "findings"),
    (lambda d: d.measure(FOUND, FOUND), "annotations"),
    (lambda d: d.compare(FOUND, FOUND, TRUE), "run 3"),
    (lambda d: d.compare(FOUND, TRUE), "run 2"),
    (lambda d: d.compare(FOUND, FOUND, annotations=FOUND), "annotations"),
    (lambda d: d.drift(FOUND, TRUE), "run 2"),
    (lambda d: d.drift(TRUE, FOUND), "run 1"),
    (lambda d: d.choose_thresholds(TRUE, FOUND, aim="best f1"), "findings"),
    (lambda d: d.check_gates(FOUND, TRUE, FOUND), "gates"),
    (lambda d: d.check_conventions("a.ledger", FOUND), "annotations"),
    (lambda d: d.check_conventions(FOUND, TRUE), "ledger"),
    (lambda d: d.decide(TRUE, "rules.toml"), "findings"),
    (lambda d: d.decide(FOUND, TRUE), "rules"),
    (lambda d: d.combine({"one": FOUND, "other": TRUE}), "tables: other"),
    (lambda d: d.combine([FOUND, FOUND]), "tables"),
    (lambda d: d.cover(b"", TRUE), "findings"),
    (lambda d: d.cover(FOUND, FOUND), "image"),
    (lambda d: d.mask_text(TRUE, ["telephone"]), "findings"),
    (lambda d: d.match_images(TRUE, ["a.jpg"]), "findings"),
    (lambda d: d.pair_tables(TRUE, FOUND), "findings"),
    (lambda d: d.pair_tables(FOUND, FOUND), "annotations"),
    (lambda d: d.fit_confidence_map(TRUE, FOUND), "findings"),
    (lambda d: d.annotations_from_review(TRUE, ["confirmed"] * 2), "findings"),
    (lambda d: d.draw(TRUE, {"a.jpg": b""}, "pictures"), "findings"),
    (lambda d: d.draw(FOUND, {"a.jpg": b""}, "pictures", annotations=FOUND), "annotations"),
    (lambda d: d.draw(FOUND, {"a.jpg": b""}, "pictures", versus=TRUE), "versus"),
    (lambda d: d.draw(FOUND, TRUE, "pictures"), "images"),
    (lambda d: d.picture(b"", TRUE), "findings"),
    (lambda d: d.picture(b"", FOUND, FOUND), "annotations"),
    (lambda d: d.write_annotations(FOUND, "a.csv"), "annotations"),
    (lambda d: d.write_table(d.measure(FOUND, TRUE), "a.csv"), "table"),
    (lambda d: d.write_report("a.html", TRUE, FOUND), "findings"),
    (lambda d: d.write_report("a.html", FOUND, FOUND), "annotations"),
    (lambda d: d.findings_of(FOUND), "ledger"),
    (lambda d: d.watch(TRUE, since="a"), "ledger"),
    (lambda d: d.gather(TRUE), "images"),
]


class Refused(unittest.TestCase):
    def test_by_name_in_every_call(self):
        for call, place in _WRONG:
            with self.subTest(place=place, call=call.__code__.co_firstlineno):
                with self.assertRaises(dotledger.DotLedgerError) as caught:
                    call(dotledger)
                self.assertEqual(caught.exception.place, place)
                self.assertEqual(caught.exception.exit_status, 2)

    def test_what_to_write_instead_is_said(self):
        with self.assertRaises(dotledger.DotLedgerError) as caught:
            dotledger.compare(FOUND, FOUND, TRUE)
        self.assertEqual(
            str(caught.exception),
            "run 3: these are annotations, and findings are needed here; got an Annotations;"
            " allowed: Findings, a dataframe of them."
            " Perhaps they are swapped: write compare(run, run, ..., annotations=annotations).",
        )

    def test_nothing_is_refused_that_is_right(self):
        self.assertEqual(dotledger.measure(FOUND, TRUE).kinds["object"].pooled.recall, 1.0)
        self.assertEqual(list(dotledger.pair_tables(FOUND, TRUE).finding), ["right"] * 2)
        self.assertEqual(dotledger.drift(FOUND, FOUND).found, ())


class Forms(unittest.TestCase):
    def test_one_label_in_two_unicode_forms(self):
        """An accented letter as one character or as two is one label, and that it was two is said."""
        found = pd.DataFrame(
            {**_WHERE, "label": ["cafe\u0301", "caf\u00e9"], "confidence": [0.9, 0.8]}
        )
        true = dotledger.Annotations.from_frame(
            pd.DataFrame({**_WHERE, "label": ["caf\u00e9", "cafe\u0301"]}),
            vocabulary={"object": ["cafe\u0301"]},
        )
        result = dotledger.measure(dotledger.Findings.from_frame(found), true, draws=0)
        self.assertEqual(list(result.kinds["object"].rows), ["caf\u00e9"])
        self.assertEqual(result.pooled.true_positives, 2)
        self.assertIn(
            "another Unicode form somewhere, and taken as one label: caf\u00e9.",
            " ".join(result.notes),
        )
        self.assertNotIn("Unicode", " ".join(dotledger.measure(FOUND, TRUE, draws=0).notes))

    def test_screening_with_a_narrower_vocabulary(self):
        """An image is unsafe if any category is annotated, also one that is not measured."""
        rows = {"image": ["a", "b", "c"], "kind": ["unsafe"] * 3}
        true = dotledger.Annotations.from_frame(
            pd.DataFrame({**rows, "label": ["smoke", "flame", ""]}),
            vocabulary={"unsafe": ["smoke"]},
        )
        found = dotledger.Findings.from_frame(
            pd.DataFrame({**rows, "label": ["smoke", "", ""], "confidence": [0.9, None, None]})
        )
        screened = dotledger.measure(found, true, draws=0).screening()
        self.assertEqual(
            (screened.caught, screened.let_through, screened.rightly_passed), (1, 1, 1)
        )
