"""The line of progress, as a terminal gets it."""

import io
import unittest
from unittest import mock

from dotledger.cli.options.progress_display import progress_line
from dotledger.sending.batch.send_progress import Progress


class Terminal(io.StringIO):
    def isatty(self):
        return True


def progress(**changes):
    facts = {
        "images": 200, "done": 60, "earlier": 40, "failed": 2, "refused": 1, "calls": 20,
        "money": 0.5, "currency": "EUR", "seconds": 4.0,
    }  # fmt: skip
    return Progress(**(facts | changes))


class Line(unittest.TestCase):
    def test_what_it_tells(self):
        """Images, rate of this sending, time left, money, failed and refused."""
        with (
            mock.patch("sys.stderr", Terminal()) as stderr,
            mock.patch.dict("os.environ", {"COLUMNS": "120", "TERM": "xterm"}),
            progress_line(200) as tell,
        ):
            tell(progress(done=40))
            tell(progress())
        text = stderr.getvalue()
        for sign in ("60/200", "5.0/s", "left, 0.5000 EUR, 2 failed, 1 refused"):
            self.assertIn(sign, text)

    def test_quiet_elsewhere(self):
        """Where stderr is no terminal, nothing is shown."""
        with mock.patch("sys.stderr", io.StringIO()) as stderr, progress_line(3) as tell:
            self.assertIsNone(tell)
        self.assertEqual(stderr.getvalue(), "")
