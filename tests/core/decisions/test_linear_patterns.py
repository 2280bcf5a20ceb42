"""Patterns on strangers' text: what they mean, what is refused, and that none takes for ever."""

import re
import unittest
import zipfile

from dotledger.core.decisions.linear_patterns import linear_pattern
from dotledger.core.decisions.rule_conditions import PATTERNS
from dotledger.errors import ArgumentError
from dotledger.safe_files import check_unpacked


class Patterns(unittest.TestCase):
    def test_as_the_standard_library_says(self):
        """Of patterns that both know, the same lines hold them, in every alphabet, letter case aside."""
        lines = (
            "Ring 0171 555",
            "Straße 9",
            "ÉTÉ",
            "été_7",
            "ключ",
            "a.b",
            "[x]",
            "ab-cd",
            "٣",
            "",
            "a\nb",
            "Old Reed",
        )
        for pattern in (
            r"\w+",
            r"^\w+$",
            r"[\w.]+\d",
            r"[^\w]",
            r"\W",
            r"\d{3}",
            "été",
            r"old\s+reed",
            r"[]x]",
            r"a.b",
            "(a|ab)(c|bcd)*",
        ):
            known = re.compile(pattern, re.IGNORECASE)
            ours = linear_pattern(pattern, place="x")
            for line in lines:
                self.assertEqual(ours.found_in(line), bool(known.search(line)), (pattern, line))

    def test_none_takes_for_ever(self):
        """Patterns that keep a backtracking engine busy for years end at once, on long lines."""
        for pattern in (
            r"(a+)+$",
            r"(a|aa)+$",
            r"(.*a){12}$",
            r"(\w+\s?)*!",
            *PATTERNS.values(),
        ):
            self.assertFalse(linear_pattern(pattern, place="x").found_in("a" * 200_000 + "?"))

    def test_refused(self):
        """What needs to look around or back is refused, with what to write in its place."""
        for pattern in ("(?=a)b", "(?<!x)y", r"(a)\1", "(", "a{2000}{2000}", "[z-a]"):
            with self.assertRaisesRegex(ArgumentError, "not a regular expression that is run here"):
                linear_pattern(pattern, place="x")

    def test_ready_ones(self):
        """Telephone numbers, addresses of mail and of the web are found where they stand."""
        for name, line, places in (
            ("telephone", "Ring 0171 555 0199, or +49 (30) 123456", [(5, 18), (23, 38)]), ("telephone", "x0171", []),
            ("e-mail", "to ada.ro@lantern.example!", [(3, 25)]), ("web address", "see www.walk.example and lantern.org.", [(4, 20), (25, 36)]),
        ):  # fmt: skip
            self.assertEqual(
                list(linear_pattern(PATTERNS[name], place="x").places(line)), places, line
            )

    def test_archives(self):
        """A file that unpacks to a hundred times what is packed is refused before it is unpacked."""
        facts = zipfile.ZipInfo("a.csv")
        facts.file_size, facts.compress_size = 300 << 20, 300 << 10
        with self.assertRaisesRegex(OSError, "314,572,800 bytes, 1,024 times"):
            check_unpacked(facts)
        facts.compress_size = 60 << 20
        check_unpacked(facts)
        with self.assertRaisesRegex(OSError, "more than 1,073,741,824"):
            check_unpacked(facts, 900 << 20)
