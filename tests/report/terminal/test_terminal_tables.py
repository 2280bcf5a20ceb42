"""Tables for a terminal: plain where there is none."""

import io
import os
import unittest
from unittest import mock

from dotledger import measure
from dotledger.core.tables.finding_details import Details
from dotledger.report.terminal.measure_tables import slice_tables
from dotledger.report.terminal.terminal_tables import (
    DASH,
    console,
    duration,
    number,
    printed,
    rows_table,
)
from tests.core.measurement.test_measure import annotations_of, findings_of
from tests.core.questions.test_questions import with_details


class Tables(unittest.TestCase):
    def printed(self, *parts, columns=""):
        with mock.patch.dict(os.environ, {"COLUMNS": columns}):
            made = console(io.StringIO())
        return "".join(printed(made, part) for part in parts)

    def test_numbers_stand_to_the_right(self):
        """Columns of numbers and dashes stand to the right, words to the left, without colours."""
        rows = [("lamp", "1,200", DASH), ("moon [red]", "7", "0.5")]
        text = self.printed(rows_table("Things", ("name", "count", "share"), rows))
        self.assertEqual(
            text.splitlines(),
            [
                "Things",
                "name        count  share",
                f"lamp        1,200      {DASH}",
                "moon [red]      7    0.5",
            ],
        )
        self.assertNotIn("\x1b", text)

    def test_narrow_terminals(self):
        """At 80 and 120 columns nothing is cut: the least columns go first, and that is said."""
        header = ("kind", "label", *(f"measure {n}" for n in range(10)))
        rows = [("object", "a very long label of " + "w" * 70, *["1.00"] * 10)]
        for columns in (80, 120):
            text = self.printed(rows_table("T", header, rows, ("measure 3",)), columns=str(columns))
            self.assertLessEqual(max(map(len, text.splitlines())), columns)
            self.assertEqual(text.count("w"), 70 + text.count("width"))
            self.assertIn("left out at this width: measure 3, measure 9", text)
            self.assertNotIn(" \n", text)
        whole = self.printed(rows_table("T", header, rows))
        self.assertEqual((len(whole.splitlines()), "left out" in whole), (3, False))

    def test_slices_by_findings(self):
        """They have no column for what was missed, and keep precision in 60 columns."""
        table = findings_of(
            [("a", "face", "face", 0.9, (0, 0, 9, 9)), ("b", "face", "face", 0.9, (9, 9, 20, 20))]
        )
        table = with_details(table, [Details(attributes={"eyes": e}) for e in ("open", "shut")])
        true = annotations_of([(n, "face", "face", (0, 0, 9, 9), False) for n in "abc"])
        result = measure(table, true, draws=0)
        text = self.printed(*slice_tables(result, "found.eyes", None), columns="60")
        heading = "found.eyes  right  wrong  precision"
        self.assertEqual(text.splitlines()[1], heading)
        self.assertNotIn("missed", text)
        self.assertNotIn("left out", text)

    def test_control_characters_are_shown(self):
        """What could move a terminal's cursor is shown as a dot."""
        text = self.printed(rows_table("", ("name",), [("a\x1b[2Jb\nc",)]))
        self.assertNotIn("\x1b", text)
        self.assertEqual(len(text.splitlines()), 2)

    def test_words_for_numbers(self):
        """Undefined numbers are dashes; times have the unit that fits."""
        self.assertEqual([number(v) for v in (None, float("nan"), 0.125)], [DASH, DASH, "0.12"])
        times = [duration(s) for s in (0.2, 45, 600, 9000)]
        self.assertEqual(times, ["under 1 s", "45 s", "10 min", "2.5 h"])

    def test_a_closed_pipe(self):
        """A reader that went away is told as any other broken pipe."""

        class Closed(io.StringIO):
            def write(self, _):
                raise BrokenPipeError

        with self.assertRaises(BrokenPipeError):
            console(Closed()).print("x")
