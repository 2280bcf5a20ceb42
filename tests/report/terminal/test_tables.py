"""Tables for a terminal: plain where there is none."""

import io
import unittest

from dotledger.report.terminal.tables import DASH, console, duration, number, rows_table


class Tables(unittest.TestCase):
    def printed(self, *parts):
        out = io.StringIO()
        made = console(out)
        for part in parts:
            made.print(part, soft_wrap=isinstance(part, str))
        return out.getvalue()

    def test_numbers_stand_to_the_right(self):
        """Columns of numbers and dashes stand to the right, words to the left, without colours."""
        rows = [("lamp", "1,200", DASH), ("moon [red]", "7", "0.5")]
        text = self.printed(rows_table("Things", ("name", "count", "share"), rows))
        self.assertEqual(
            [line.rstrip() for line in text.splitlines()],
            [
                "Things",
                "name        count  share",
                f"lamp        1,200      {DASH}",
                "moon [red]      7    0.5",
            ],
        )
        self.assertNotIn("\x1b", text)

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
