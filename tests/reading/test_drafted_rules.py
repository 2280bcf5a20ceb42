"""What drafts write and rules can say: questions, corners as text, parents of what is further out."""

import json
import unittest

from dotledger.errors import DescriptionError
from dotledger.services.drafting import read_samples
from dotledger.services.service_description import parse_description

HEAD = """schema = 1
service = "mine"
[connect]
address = "https://service.example"
[connect.key]
place = "none"
[[call]]
name = "look"
kinds = ["object"]
path = "/"
body = "raw"
[[read]]
kind = "object"
"""


def read(rule, answer, size=(1200.0, 800.0)):
    """Return the reading of one answer by one rule."""
    [reading] = read_samples(HEAD + rule, [json.dumps(answer).encode()], [size])
    return reading


class DraftedRules(unittest.TestCase):
    def test_a_question_is_refused(self):
        """A file with an open question is no description: line, key and what to do are said."""
        text = HEAD + 'each = "things[]"\nlabel = "name"\nbox = "not answered"\n'
        with self.assertRaises(DescriptionError) as caught:
            parse_description(text, name="mine.toml")
        self.assertEqual(caught.exception.place, "mine.toml, line 16, read.0.box")
        self.assertIn("'box ='", caught.exception.next_step)

    def test_the_same_words_elsewhere(self):
        """Only a rule has questions: anywhere else the words are a text like any other."""
        text = HEAD.replace("[connect]", 'about = "not answered"\n[connect]')
        rule = 'each = "things[]"\nlabel = "name"\nbox = { at = "b", order = ["x0", "y0", "x1", "y1"] }\n'
        self.assertEqual(parse_description(text + rule).about, "not answered")

    def test_corners_as_text(self):
        """Two corners that are texts of two numbers are a box; anything else is set aside."""
        rule = 'each = "out[]"\nlabel = "cls"\nbox = { at = "[tl, br]", form = "points", split = ";" }\n'
        good = {"cls": "kettle", "tl": "571;205", "br": "723; 420"}
        found = read(rule, {"out": [good, {**good, "br": "723"}, {**good, "tl": [1, 2]}]})
        self.assertEqual([f.box for f in found.found], [(571.0, 205.0, 723.0, 420.0)])
        self.assertEqual(len(found.notes), 2)

    def test_parents_further_out(self):
        """Broader terms may stand with the label around, in a list of objects."""
        rule = (
            'each = "terms[].seen[]"\nlabel = "^term"\nparents = "^wider[].term"\n'
            'box = { at = "box", order = ["x0", "y0", "x1", "y1"] }\n'
        )
        term = {"term": "rope", "wider": [{"term": "gear"}, {"term": "things"}], "seen": [{"box": [1, 2, 30, 40]}]}  # fmt: skip
        [found] = read(rule, {"terms": [term]}).found
        self.assertEqual((found.label, found.details.parents), ("rope", ("gear", "things")))
