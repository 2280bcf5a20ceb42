"""Templates for what is written beside a box: what they give, and what is none."""

import math
import unittest
from dataclasses import replace

from dotledger.core.tables.finding_details import Details
from dotledger.errors import ArgumentError
from dotledger.report.pages.report_columns import in_words
from dotledger.report.pictures.box_writing import box_writing
from dotledger.report.pictures.contact_sheets import picture_marks
from dotledger.report.pictures.label_templates import label_template
from tests.core.measurement.test_measure import findings_of

REED = {
    "name": {"name": "Old Reed", "similarity": 0.913},
    "age": {"low": 60, "high": 70},
    "years": {"value": 64.4, "unit": "years"},
    "mood": {"shares": {"calm": 0.72, "glad": 0.28}, "leading": "calm"},
    "smiling": True,
    "hat": False,
    "wears": "scarf, glasses",
    "eye distance": 30.5,
}


def table(*attributes):
    """Faces in a row, one for each mapping of attributes; None for one without details."""
    rows = [
        ("a.png", "face", "face", 0.9, (40 * n, 0, 40 * n + 30, 30)) for n in range(len(attributes))
    ]
    details = tuple(None if one is None else Details(attributes=one) for one in attributes)
    return replace(findings_of(rows), details=details)


class Templates(unittest.TestCase):
    def written(self, text, attributes=REED, confidence=0.9):
        found = table(REED, attributes)
        template = label_template(text, found.details or ())
        return template.written("face", "face", confidence, found.details[1])

    def test_fields(self):
        for text, told in (
            ("{person}, {age}, {mood}", "Old Reed, 60\N{EN DASH}70, calm"),
            ("{person} ({similarity:.0%})", "Old Reed (91%)"),
            ("{mood} {mood.share:.0%}", "calm 72%"),
            ("{years:.0f} {years.unit}", "64 years"),
            ("{label} {confidence:.2f} | {smiling}", "face 0.90 | smiling"),
            ("{eye distance} px; {wears}", "30.5 px; scarf, glasses"),
            ("{{{kind}}}", "{face}"),
            ("plain", "plain"),
        ):
            with self.subTest(text):
                self.assertEqual(self.written(text), told)

    def test_left_out(self):
        """A part that lacks a field goes whole, with what divides it; never "None", never a guess."""
        text = "{person}, {years:.0f} years, {mood}"
        for attributes, told in (
            ({"mood": "glad"}, "glad"),
            ({"name": {"name": "Sedge"}, "mood": "glad"}, "Sedge, glad"),
            ({"years": 7}, "7 years"),
            ({"name": {"name": ""}}, "face"),
            ({"mood": {"shares": {"calm": 0.5}, "leading": "undecided"}}, "undecided"),
            (None, "face"),
        ):
            with self.subTest(attributes):
                self.assertEqual(self.written(text, attributes), told)
        self.assertEqual(self.written("{smiling}, {hat}"), "smiling")
        self.assertEqual(self.written("{confidence:.2f}", confidence=math.nan), "face")
        self.assertEqual(self.written("{person}, {similarity:.2f}", {"name": "Sedge"}), "Sedge")

    def test_refused(self):
        for text, told in (
            ("{perso}", "Did you mean {person}"),
            ("{ages}", "no finding has a field 'ages'"),
            ("{mood.real}", "is no field"),
            ("{label.__class__}", "is no field"),
            ("{0}", "no finding has a field '0'"),
            ("{}", "is no field"),
            ("{label!r}", "is no field"),
            ("{label:>99999999}", "is no field"),
            ("{label:{kind}}", "is no field"),
            ("{label", "not a template"),
            ("{a, b}", "not a template"),
        ):
            with self.subTest(text), self.assertRaisesRegex(ArgumentError, told):
                self.written(text)

    def test_in_words(self):
        """The leading part comes first, where a line that is cut cannot lose it."""
        self.assertEqual(
            in_words(REED),
            "name: Old Reed (similarity 0.91), age: 60 to 70, years: 64.4 years, mood: calm 0.72 "
            "(others: glad 0.28), smiling: yes, hat: no, wears: scarf, glasses, eye distance: 30.5",
        )
        self.assertEqual(
            in_words({"m": {"shares": {"a": 0.4}, "leading": "undecided"}}),
            "m: undecided (others: a 0.40)",
        )
        self.assertNotIn("Reed", in_words(REED, private=True))

    def test_default(self):
        """A face with a person's name is written under it; others as before."""
        found = table(REED, {"name": "Sedge"}, {"name": ""}, None)
        [(marks, _, _)] = picture_marks(found, None).values()
        said = [mark.text for mark in marks]
        self.assertEqual(said, ["Old Reed 0.91", "Sedge", "face 0.90", "face 0.90"])
        [(marks, _, _)] = picture_marks(
            found, None, writing=box_writing(found, write="{person}, {mood}")
        ).values()
        self.assertEqual([m.text for m in marks], ["Old Reed, calm", "Sedge", "face", "face"])
        self.assertEqual({mark.label for mark in marks}, {"face"}, "colours stay")


if __name__ == "__main__":
    unittest.main()
