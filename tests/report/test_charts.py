"""Charts: what is drawn is what was measured, on the axes that are given, and nothing else moves."""

import unittest

import matplotlib

matplotlib.use("agg")
import numpy as np
from matplotlib import pyplot

import dotledger
from dotledger.errors import ArgumentError
from dotledger.report.charts import PLOTS
from tests.core.measurement.test_measure import annotations_of, findings_of

BOX, FAR = (0, 0, 10, 10), (30, 30, 40, 40)
FOUND = findings_of([
    ("a", "object", "cup", 0.9, BOX), ("b", "object", "cup", 0.6, BOX), ("b", "object", "cup", 0.4, FAR), ("c", "object", "hat", 0.8, BOX), ("a", "label", "x", 0.5, None),
    ("b", "label", "", None, None), ("c", "label", "", None, None),
])  # fmt: skip
TRUE = annotations_of(
    [
        ("a", "object", "cup", BOX, False),
        ("b", "object", "cup", BOX, False),
        ("c", "object", "cup", BOX, False),
        ("c", "object", "hat", FAR, False),
        ("a", "label", "x", None, False),
    ]
)


class Charts(unittest.TestCase):
    def setUp(self):
        self.addCleanup(pyplot.close, "all")
        self.result = dotledger.measure(FOUND, TRUE, draws=50)

    def test_the_curve(self):
        """Worked: cup at 0.9, 0.8 wrong hat, 0.6, 0.4 wrong: precision 1, 1/2, 2/3, 1/2."""
        before = dict(matplotlib.rcParams)
        ax = pyplot.subplots()[1]
        self.assertIs(dotledger.plot(self.result, "curve", kind="object", ax=ax, chosen=0.7), ax)
        line = next(one for one in ax.lines if one.get_label() == "precision")
        np.testing.assert_allclose(line.get_xdata(), [1 / 4, 1 / 4, 2 / 4, 2 / 4])
        np.testing.assert_allclose(line.get_ydata(), [1, 1 / 2, 2 / 3, 1 / 2])
        point = next(one for one in ax.lines if one.get_label() == "threshold 0.7")
        self.assertEqual((point.get_xdata()[0], point.get_ydata()[0]), (0.25, 0.5))
        self.assertEqual(
            (ax.get_xlabel(), ax.get_ylabel(), ax.get_title()),
            ("recall", "precision", "object: 4 annotated"),
        )
        alone = dotledger.plot(self.result, "curve", kind="object", label="cup")
        np.testing.assert_allclose(alone.lines[0].get_ydata(), [1, 1, 2 / 3])
        self.assertEqual(dict(matplotlib.rcParams), before, "nothing global is touched")

    def test_the_others(self):
        """Counts of reasons, pairs, confusion; every chart draws, and names what it is of."""
        wrong = dotledger.plot(self.result, "wrong", kind="object")
        self.assertEqual(sum(bar.get_width() for bar in wrong.patches), 2)
        missed = dotledger.plot(self.result, "missed", kind="object")
        self.assertEqual(
            (sum(bar.get_width() for bar in missed.patches), missed.get_title()),
            (2, "object: 2 missed"),
        )
        self.assertEqual(
            sum(
                p.get_height()
                for p in dotledger.plot(self.result, "overlap", kind="object").patches
            ),
            2,
        )
        other = dotledger.compare(FOUND, FOUND.cut(0.7), annotations=TRUE, draws=50)
        for what, (needs, _) in PLOTS.items():
            if what in ("rounds", "names", "pairs", "errors"):  # in files of their own
                continue
            given = {"Measure": self.result, "MeasuredKinds": self.result, "Comparison": other}.get(
                getattr(needs, "__name__", ""), [0.1, 0.3, 0.2]
            )
            ax = dotledger.plot(given, what, kind="object" if needs else None, by="crowding")
            ax.figure.canvas.draw()
            self.assertTrue(ax.get_title() and (ax.get_xlabel() or ax.get_xticklabels()), what)
        self.assertIn(
            "median 0.20",
            dotledger.plot([0.1, 0.3, 0.2], "latency").get_legend_handles_labels()[1][0],
        )

    def test_as_a_method(self):
        """A result draws itself: the curve of a measure, the differences of a comparison."""
        ax = self.result.plot(kind="object")
        self.assertEqual(ax.get_title(), "object: 4 annotated")
        self.assertEqual(self.result.plot("sweep", kind="object", ax=ax), ax)
        other = dotledger.compare(FOUND, FOUND.cut(0.7), annotations=TRUE, draws=20)
        self.assertIn("3 images", other.plot().get_title())
        with self.assertRaises(ArgumentError):
            self.result.plot("pie", kind="object")

    def test_empty_and_wrong(self):
        """Nothing found draws empty axes; another result, kind, label or chart is named."""
        none = dotledger.measure(findings_of([("a", "object", "", None, None)]), TRUE, draws=20)
        for what in ("curve", "sweep", "overlap", "reliability", "wrong", "missed", "confusion"):
            dotledger.plot(none, what, kind="object").figure.canvas.draw()
        for arguments in ((self.result, "pie"), (self.result, "differences"), ([1], "curve"), (self.result, "curve")):  # fmt: skip
            with self.assertRaises(ArgumentError):
                dotledger.plot(*arguments)
        for more in ({"kind": "face"}, {"kind": "object", "label": "moon"}):
            with self.assertRaises(ArgumentError):
                dotledger.plot(self.result, "curve", **more)
        with self.assertRaisesRegex(ArgumentError, "no overlap"):
            dotledger.plot(self.result, "overlap", kind="label")
        with matplotlib.rc_context(dotledger.plot_style()):
            self.assertEqual(
                len(
                    {
                        one["linestyle"] if isinstance(one["linestyle"], str) else "dots"
                        for one in matplotlib.rcParams["axes.prop_cycle"]
                    }
                ),
                5,
            )
