"""Charts of names and pairs: what is drawn is what was counted, and says of how many."""

import tempfile
import unittest
from pathlib import Path

import matplotlib

import dotledger
from dotledger.core.questions.pair_verification import pair_measure
from dotledger.errors import ArgumentError
from dotledger.report.chart_files import write_similarity_chart
from tests.core.questions.test_identification import BOXES, annotated, face, table

matplotlib.use("agg")

SAME = [True, True, True, False, False, True, False]
ALIKE = [0.9, 0.8, 0.3, 0.5, 0.2, None, None]


def pairs(same=SAME, alike=ALIKE):
    names = [f"p{n}" for n in range(len(same))]
    return pair_measure(names, [f"q{n}" for n in range(len(same))], same, alike)


class Charts(unittest.TestCase):
    def test_pairs(self):
        """Both rates at each similarity; pairs without an answer are in neither, and are said."""
        ax = dotledger.plot(pairs(), "pairs", chosen=0.5)
        match, miss, _ = ax.lines
        self.assertEqual(list(match.get_xdata()), [0.2, 0.3, 0.5, 0.8, 0.9])
        self.assertEqual(list(match.get_ydata()), [1.0, 0.5, 0.5, 0.0, 0.0])
        self.assertEqual([round(v, 3) for v in miss.get_ydata()], [0, 0, 0.333, 0.333, 0.667])
        self.assertEqual(ax.get_title(), "3 pairs of one person, 2 of two; 2 without an answer")

    def test_errors(self):
        """One rate against the other, with the point where they are equal and the one chosen."""
        ax = dotledger.plot(pairs(), "errors", chosen=0.8)
        self.assertEqual(list(ax.lines[0].get_xdata()), [1.0, 0.5, 0.5, 0.0, 0.0])
        self.assertEqual(list(ax.lines[-1].get_xdata()), [0.0])
        one_sided = dotledger.plot(pairs([True, True], [0.5, 0.6]), "errors")
        self.assertEqual(len(one_sided.lines), 0)

    def test_names(self):
        """Shares of right and false names; strangers only where some are annotated."""
        truth = annotated([("a", BOXES[0], "Ada", ""), ("b", BOXES[0], "Bo", "")])
        names = (("a", "Ada", 0.9), ("b", "Ada", 0.6))
        given = table([face(i, BOXES[0], name=who, similarity=s) for i, who, s in names])
        found = dotledger.measure(given, truth, draws=0).identification("face")
        ax = dotledger.plot(found, "names")
        drawn = [text.get_text() for text in ax.get_legend().get_texts()]
        self.assertEqual(drawn, ["right name, of enrolled", "false, of names given"])
        self.assertEqual(list(ax.lines[0].get_xdata()), [0.6, 0.9])
        self.assertEqual(list(ax.lines[0].get_ydata()), [0.5, 0.5])
        self.assertEqual(list(ax.lines[1].get_ydata()), [0.5, 0.0])
        self.assertEqual(ax.get_title(), "2 enrolled faces, 0 strangers")

    def test_nothing(self):
        """No pair with an answer: empty axes and no legend, said by the title."""
        ax = dotledger.plot(pairs([True], [None]), "pairs")
        self.assertIsNone(ax.get_legend())
        self.assertEqual(ax.get_title(), "0 pairs of one person, 0 of two; 1 without an answer")

    def test_files(self):
        """Each ending that is allowed, whole; another is refused before anything is written."""
        with tempfile.TemporaryDirectory() as folder:
            for ending, head in ((".png", b"\x89PNG"), (".svg", b"<?xml"), (".pdf", b"%PDF")):
                path = Path(folder) / f"pairs{ending}"
                write_similarity_chart(pairs(), str(path), float("inf"))
                self.assertEqual(path.read_bytes()[: len(head)], head)
            with self.assertRaisesRegex(ArgumentError, "no kind of chart file.*[.]png"):
                write_similarity_chart(pairs(), f"{folder}/pairs.txt")
            self.assertEqual(len(list(Path(folder).iterdir())), 3)


if __name__ == "__main__":
    unittest.main()
