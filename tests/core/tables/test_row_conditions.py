"""Conditions on findings: what satisfies them, what satisfies neither them nor their opposite."""

import random
import unittest
from dataclasses import replace

from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.row_conditions import rows_where
from dotledger.errors import ArgumentError
from tests.core.measurement.test_measure import findings_of

FACES = (
    {"age": 12, "mood": "happy", "smiling": True, "eye distance": 30.5},
    {"age": 40, "mood": "Calm", "smiling": False, "name": {"name": "Old Reed", "similarity": 0.9}},
    {
        "age": {"low": 10, "high": 20},
        "mood": {"shares": {"calm": 0.6, "sad": 0.4}, "leading": "calm"},
    },
    {"age": {"value": 70, "unit": "years"}},
    None,
)


def table(faces=FACES):
    rows = [("a.png", "face", "face", 0.1 * n, (0, 0, 9, 9)) for n in range(len(faces))]
    details = [None if one is None else Details(attributes=one) for one in faces]
    return replace(findings_of(rows), details=tuple(details))


def met(condition, found=None):
    found = table() if found is None else found
    return [row for row, well in enumerate(rows_where(found, condition)) if well]


class Conditions(unittest.TestCase):
    def test_lists(self):
        """A list equals each of its entries; one that is missing is neither."""
        found = table(({"worn": ["Hat", "mask"]}, {"worn": []}, {}))
        for condition, rows in (
            ("worn = 'hat'", [0]),
            ("worn != 'hat'", [1]),
            ("worn in ('scarf', 'mask')", [0]),
            ("not worn = 'scarf'", [0, 1]),
        ):
            self.assertEqual(met(condition, found), rows, condition)
        kept = found.where("worn = 'hat'")
        self.assertEqual((len(kept), kept.origin.where), (1, ("worn = 'hat'",)))

    def test_worked(self):
        for condition, rows in (
            ("age < 18", [0]),
            ("age < 18 and mood = 'happy'", [0]),
            ("age >= 10", [0, 1, 2, 3]),
            ("age < 21", [0, 2]),
            ("age > 15", [1, 3]),
            ("age = 15", []),
            ("age != 30", [0, 1, 2, 3]),
            ("mood = 'CALM'", [1, 2]),
            ("mood in ('happy', 'calm')", [0, 1, 2]),
            ("mood not in ('happy', 'sad')", [1, 2]),
            ("smiling", [0]),
            ("not smiling", [1]),
            ("smiling = False OR age > 60", [1, 3]),
            ("eye_distance > 30", [0]),
            ("person = 'old reed' and similarity >= 0.9", [1]),
            ("confidence >= 0.3", [3, 4]),
            ("label = 'face' and not (age < 18 or mood = 'calm')", []),
            ("mood = 'a = b'", []),
        ):
            with self.subTest(condition):
                self.assertEqual(met(condition), rows)

    def test_what_lacks_satisfies_nothing(self):
        """Neither a condition nor its opposite; a range that lies on both sides is not known."""
        for condition in ("age < 18", "mood = 'happy'", "smiling", "person = 'x'", "age = 15"):
            self.assertNotIn(4, [*met(condition), *met(f"not ({condition})")], condition)
        self.assertNotIn(2, [*met("age < 18"), *met("not age < 18")])
        self.assertIn(0, met("age < 18 or person = 'x'"))

    def test_a_blank_row(self):
        found = findings_of(
            [("a.png", "face", "", None, None), ("b.png", "face", "face", 0.9, (0, 0, 9, 9))]
        )
        self.assertEqual(met("kind = 'face'", found), [1])

    def test_against_python(self):
        """Drawn conditions on drawn rows, against Python's own reading of the same words."""
        draw = random.Random(5)
        for _ in range(300):
            values = [{"a": draw.randint(0, 9), "b": draw.randint(0, 9)} for _ in range(8)]
            parts = [
                f"{draw.choice('ab')} {draw.choice(('<', '<=', '=', '!=', '>'))} {draw.randint(0, 9)}"
                for _ in range(3)
            ]
            text = f"{parts[0]} {draw.choice(('and', 'or'))} not ({parts[1]} {draw.choice(('and', 'or'))} {parts[2]})"
            python = text.replace(" = ", " == ")
            expected = [row for row, one in enumerate(values) if eval(python, {}, one)]
            self.assertEqual(met(text, table(values)), expected, text)

    def test_refused(self):
        for condition, told in (
            ("agee < 18", "Did you mean age"),
            ("age < 'young'", "text is compared by = and != only"),
            ("age = 'young'", "age is never text; its values are like 12"),
            ("mood = 3", "mood is never a number"),
            ("mood", "never yes or no"),
            ("age", "never yes or no"),
            ("__import__('os').system('x')", "is none"),
            ("age < __import__('os')", "neither a number nor text"),
            ("age.real < 3", "where a field should"),
            ("1 < age", "where a field should"),
            ("1 < 2 < 3", "is none"),
            ("age <", "cannot be parsed"),
            ("", "cannot be parsed"),
            ("age is 3", "one of its comparisons is none"),
            ("(" * 300 + "age" + ")" * 300, "longer than 500"),
        ):
            with self.subTest(condition[:40]), self.assertRaisesRegex(ArgumentError, told):
                met(condition)


if __name__ == "__main__":
    unittest.main()
