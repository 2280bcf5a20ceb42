"""What is written in any of our forms is read back the same: to the last bit, sign and space."""

import tempfile
import unittest
from pathlib import Path

import numpy as np
import pandas as pd

from dotledger import Annotations, Findings, read_annotations, read_findings, write_table
from dotledger.formats.annotations.web_annotations import write_web_annotations
from dotledger.formats.croissant.croissant_writing import write_croissant

LABELS = (
    " lantern",
    "lantern ",
    "-x",
    "+1",
    "=1+1",
    "@x",
    "'quoted",
    "'=z",
    "''",
    "a b",
    "é",
    "1e5",
    "007",
)
NOISY = (0.09880000000000001, 0.1 + 0.2, 1 / 3, 0.7000000000000001, 5e-324, 1.0, 0.0)


def frame(rows):
    rng = np.random.default_rng(3)
    x, y = rng.random(rows) * 500, rng.random(rows) / 7
    return pd.DataFrame({
        "image": [f"i{row % 50}" for row in range(rows)], "kind": "object", "label": [LABELS[row % len(LABELS)] for row in range(rows)],
        "confidence": [*NOISY, *rng.random(rows - len(NOISY))], "x0": x, "y0": y, "x1": x + rng.random(rows) * 90 + 0.1, "y1": y + rng.random(rows) * 80 + 0.1,
    })  # fmt: skip


def content(table):
    """What a table holds, in an order of its own."""
    confidence = getattr(table, "confidence", np.zeros(len(table))).tolist()
    return sorted(
        zip(table.image.values(), table.label.values(), confidence, map(tuple, table.box.tolist()))
    )


class SameAgain(unittest.TestCase):
    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def test_findings(self):
        """Confidences, boxes and labels of short and long files, which are read in two ways."""
        for rows in (60, 2000):
            found = Findings.from_frame(frame(rows))
            for name in ("f.csv", "f.jsonl", "f.parquet"):
                path = write_table(found, self.home / f"{rows}-{name}")
                self.assertEqual(content(read_findings(path)), content(found), name)

    def test_annotations(self):
        """In tables, as W3C Web Annotation and as Croissant."""
        truth = Annotations.from_frame(frame(700).drop(columns="confidence").assign(ignore=False))
        for name, write in (("t.csv", write_table), ("t.jsonl", write_table), ("web.json", write_web_annotations), ("croissant.json", write_croissant)):  # fmt: skip
            write(truth, self.home / name)
            self.assertEqual(content(read_annotations(self.home / name)), content(truth), name)
