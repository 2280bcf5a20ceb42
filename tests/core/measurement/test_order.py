"""Nothing depends on the order of rows, the names of images, or an exact change of units."""

import json
import random
import unittest

import numpy as np

from dotledger import Annotations, Findings, measure
from tests.core.measurement.test_measure import annotations_of, as_tables, findings_of, random_case


def shuffled(table, rng, names, scale):
    """The same rows in another order, with other image names, in other units."""
    rows = list(range(len(table)))
    rng.shuffle(rows)
    t = table.take(np.array(rows, dtype=np.intp))
    columns = {"image": [names[i] for i in t.image.values()], "kind": t.kind, "label": t.label}
    columns |= dict(zip(("x0", "y0", "x1", "y1"), (t.box * scale).T))
    if isinstance(t, Findings):
        return Findings.from_columns(**columns, confidence=t.confidence)
    return Annotations.from_columns(**columns, ignore=t.ignore, vocabulary=t.vocabulary)


def plain(value, back, scale, key=""):
    """A result without row numbers, in the first names and units, lists of records sorted."""
    if isinstance(value, dict):
        return {back.get(k, k): plain(v, back, scale, k) for k, v in value.items() if k != "row"}
    if isinstance(value, list):
        found = [v / scale if key == "box" else plain(v, back, scale) for v in value]
        records = found and isinstance(found[0], dict)
        return sorted(found, key=lambda v: json.dumps(v, sort_keys=True)) if records else found
    return back.get(value, value) if isinstance(value, str) else value


class Order(unittest.TestCase):
    def everything(self, said, truth, facts, pairing):
        found = measure(
            said, truth.with_images(facts), threshold=0.3, overlap=[0.3, 0.5], draws=30, pairing=pairing
        ).to_dict(everything=True)  # fmt: skip
        found["slices"].pop("edge", None)  # within a pixel: not of any unit
        return found

    def test_bit_for_bit(self):
        """Ties, duplicates and equal boxes of two labels included, in every part of the result."""
        for kind in ("object", "label", "unsafe"):
            for seed in range(40):
                found, true = random_case(seed, kind)
                if not {f["image"] for f in found} & {a["image"] for a in true}:
                    continue
                said, truth = as_tables(found, true, kind)
                rng = random.Random(seed)
                images = sorted({*said.image.used(), *truth.image.used()})
                others = [f"n{i}" for i in rng.sample(range(9), len(images))]
                names, scale = dict(zip(images, others)), rng.choice([1, 2, 4])
                facts = {
                    n: {"width": 64, "height": 64, "even": k % 2} for k, n in enumerate(images)
                }
                more = {
                    names[n]: {**f, "width": 64 * scale, "height": 64 * scale}
                    for n, f in facts.items()
                }
                pairing = ("confidence", "total-overlap")[seed % 2]
                one = self.everything(said, truth, facts, pairing)
                two = self.everything(
                    shuffled(said, rng, names, scale),
                    shuffled(truth, rng, names, scale),
                    more,
                    pairing,
                )
                back = {v: k for k, v in names.items()}
                for part, value in one.items():
                    self.assertEqual(
                        plain(value, {}, 1), plain(two[part], back, scale), (kind, seed, part)
                    )

    def test_confusion_prefers_the_equal_label(self):
        """Of two annotations in one place the one of its own name is found, whichever is first."""
        for order in ("ab", "ba"):
            truth = annotations_of([("i", "object", n, (0, 0, 4, 4), False) for n in order])
            for label in "ab":
                said = findings_of([("i", "object", label, 0.9, (0, 0, 4, 4))])
                counts = measure(said, truth, draws=0).confusion()["object"].frame()
                self.assertEqual(counts.loc[label, label], 1)
            both = findings_of([("i", "object", n, 0.9, (0, 0, 4, 4)) for n in order])
            one = annotations_of(
                [("i", "object", "b", (0, 0, 4, 4), False), ("i", "object", "a", (9, 9, 10, 10), False)]
            )  # fmt: skip
            counts = measure(both, one, draws=0).confusion()["object"].frame()
            self.assertEqual(counts.loc["b", "b"], 1)
