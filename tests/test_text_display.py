"""Values and foreign text in messages: short, shallow, one line of ordinary characters."""

import unittest

import numpy as np

from dotledger.errors import DotLedgerError
from dotledger.text_display import escaped_json, plain_text, shown


def deep(depth):
    value = []
    for _ in range(depth):
        value = [value]
    return value


class Showing(unittest.TestCase):
    def test_plain_text(self):
        """Whatever moves a cursor, colours, links or turns text is written out; letters stay."""
        for text, wanted in (
            ("walk-09 größe 灯笼 مصباح", "walk-09 größe 灯笼 مصباح"),
            ("a\x1b]8;;http://x\x07b", r"a\x1b]8;;http://x\x07b"),
            ("a\x9b2Jb\x7f", r"a\x9b2Jb\x7f"),
            ("a\u202eb\u2066c\u200e", r"a\u202eb\u2066c\u200e"),
            ("two\nlines\ttab\r", r"two\nlines\ttab\r"),
            ("half \ud800", r"half \ud800"),
            ("no break\u00a0space", "no break\u00a0space"),
        ):
            self.assertEqual(plain_text(text), wanted)

    def test_values(self):
        """No Python reprs, no depth, no length, no digits that Python refuses to write."""
        for value, wanted in (
            (np.float64(1.5), "1.5"),
            (b"hello", "5 bytes"),
            ({"a": [1, None, True]}, "{'a': [1, None, True]}"),
            (deep(5000), "[[[[…]]]]"),
            (10**5000, "a whole number of 5,001 digits"),
            (object(), "an object"),
            ("x" * 99, "'" + "x" * 78 + "…"),
        ):
            self.assertEqual(shown(value), wanted)
        self.assertLessEqual(len(shown({str(n): ["y" * 90] * 90 for n in range(90)}, 60)), 60)
        loop = []
        loop.append(loop)
        self.assertEqual(shown(loop), "[[[[…]]]]")

    def test_errors_are_one_line(self):
        """What stands in an error's parts reaches no terminal as it is."""
        error = DotLedgerError("bad\x1b[1m", place="a\nb", got="\u202e", next_step="Go\r on.")
        self.assertEqual(str(error), r"a\nb: bad\x1b[1m; got '\u202e'. Go\r on.")

    def test_json(self):
        """In JSON the same letters are escapes, so that what reads it gets them back."""
        self.assertEqual(escaped_json('{"a":\n"\u202e\x9b"}'), '{"a":\n"\\u202e\\u009b"}')
