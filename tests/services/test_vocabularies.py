"""Labels by id in several languages; captions, colours and facts of the picture, which are no labels."""

import json
import tempfile
import unittest
from pathlib import Path

import dotledger
from dotledger.core.kinds import KINDS, KindName
from dotledger.errors import DescriptionError
from dotledger.ledger.batch_queries import find_batch
from dotledger.ledger.finding_queries import notes_of
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.services.drafting import draft
from dotledger.services.service_description import (
    parse_description,
    read_description,
    stored_description,
)
from dotledger.testing import FakeTransport
from tests.forked import dotledger as command
from tests.sending.helpers import TEXT, picture

NAMES = 'id,en,de\n7,lantern,Laterne\n8,"basket, round",Korb\n'
BY_ID = (
    'each = "tags[]"\nlabel = "name"',
    'each = "tags[]"\nlabel = "code"\nlookup = { file = "words.csv", name = "de" }',
)
CARRIED = """
[[read]]
kind = "caption"
each = "story[]"
always = "-"
[[read]]"""


class Vocabularies(unittest.TestCase):
    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (self.home / "words.csv").write_text(NAMES, encoding="utf-8-sig")
        self.toml = self.home / "bell.toml"
        self.write(TEXT.replace(*BY_ID))

    def write(self, text):
        self.toml.write_text(text)
        return self.toml

    def test_by_id(self):
        """The names come from the file next to the description, in the language that is named."""
        answer = {"tags": [{"code": 7}, {"code": "8"}, {"code": 9}], "things": []}
        sent = dotledger.send(
            {"a.jpg": picture(1)},
            self.toml,
            ledger=self.home / "l",
            key="k",
            transport=FakeTransport([answer]),
        )
        self.assertEqual(sent.outcomes["label"]["found"], 1)
        table = dotledger.findings_of(self.home / "l").filter(kind="label")
        self.assertEqual(table.label.values().tolist(), ["Laterne", "Korb"])
        with LedgerStore(self.home / "l") as ledger:
            notes = str(notes_of(ledger, find_batch(ledger)))
        self.assertIn("label's id is not in the vocabulary", notes)

    def test_it_stands_alone(self):
        """The ledger keeps the names: the file may be gone or other when answers are read again."""
        described = read_description(self.toml)
        (self.home / "words.csv").unlink()
        kept = stored_description(described.to_json())
        self.assertEqual(kept.read[0].lookup.names, {"7": "Laterne", "8": "Korb"})
        self.assertEqual(kept, described)
        with self.assertRaisesRegex(DescriptionError, "words.csv: the vocabulary cannot be read"):
            read_description(self.toml)

    def test_wrong_files(self):
        """A column that lacks (with the nearest), an id with two names, no folder, no table at all."""
        self.write(TEXT.replace(BY_ID[0], BY_ID[1].replace('"de"', '"dee"')))
        with self.assertRaisesRegex(DescriptionError, "words.csv, line 1.*did you mean 'de'"):
            read_description(self.toml)
        self.write(TEXT.replace(*BY_ID))
        (self.home / "words.csv").write_text(NAMES + "7,x,Licht\n")
        with self.assertRaisesRegex(DescriptionError, "words.csv, line 4: the id occurs twice.*'7'"):  # fmt: skip
            read_description(self.toml)
        with self.assertRaisesRegex(DescriptionError, "next to the description's file, and there is none"):  # fmt: skip
            parse_description(TEXT.replace(*BY_ID))
        for lookup in ("{ }", '{ file = "a", table = "b[]" }'):
            with self.assertRaisesRegex(DescriptionError, "a table in the answer, or a file, or names"):  # fmt: skip
                self.write(TEXT.replace('label = "name"', f'label = "name"\nlookup = {lookup}', 1))
                read_description(self.toml)

    def test_several_languages(self):
        """One language is the label, the others go along as attributes; by path or by a condition."""
        rule = """label = "names[?lang=='en'].text | [0]"\nattributes = { de = { at = "names[?lang=='de'].text | [0]" } }"""
        service = parse_description(TEXT.replace('label = "name"', rule, 1))
        answer = {
            "tags": [
                {"names": [{"lang": "de", "text": "Laterne"}, {"lang": "en", "text": "lantern"}]}
            ],
            "things": [],
        }
        with dotledger.open_service(service, key="k", transport=FakeTransport([answer])) as bell:
            found = bell.look(picture(1)).findings.filter(kind="label")
        self.assertEqual(
            (found.label.values().tolist(), found.details[0].attributes),
            (["lantern"], {"de": "Laterne"}),
        )


ANSWER = {
    "tags": [{"name": "lantern", "score": 0.9}, {"name": "night", "score": 0.8}],
    "captions": [{"text": "Lanterns over a path", "confidence": 0.8}],
    "story": [{"text": "Two people walk under lanterns", "confidence": 0.7}],
    "palette": [{"hex": "#aa3311", "score": 0.4}, {"hex": "#112233", "score": 0.2}],
    "quality": {"blurred": 0.1, "drawn": 0.93},
}


class Carried(unittest.TestCase):
    def test_the_names(self):
        """Files are checked against the same kinds as tables."""
        self.assertEqual(list(KindName.__args__), list(KINDS))

    def test_drafted(self):
        """Sentences, colours and facts are drafted as what they are, and none as a label."""
        kinds = {rule.each: rule.kind for rule in draft([ANSWER] * 2).rules}
        self.assertEqual(
            kinds,
            {
                "tags[]": "label",
                "captions[]": "caption",
                "story[]": "caption",
                "palette[]": "colour",
                "quality{}": "fact",
            },
        )
        thing = {
            "things": [{"name": "lantern", "color": "#aa3311", "score": 0.8, "box": [1, 2, 30, 40]}]
        }
        [rule] = draft([thing] * 2, [(90, 90)] * 2).rules
        self.assertEqual(
            (rule.kind, rule.label), ("object", "name"), "a colour of a thing names none"
        )

    def test_never_a_label(self):
        """They are in every table and page, counted apart, and measured by none of the figures."""
        rows = [
            ("a.jpg", "label", "lantern", 0.9),
            ("a.jpg", "caption", "lantern", 0.8),
            ("a.jpg", "colour", "lantern", 0.7),
            ("a.jpg", "fact", "lantern", 0.6),
        ]
        with tempfile.TemporaryDirectory() as home:
            lines = [",".join([*map(str, row), "", "", "", ""]) for row in rows]
            head = "image,kind,label,confidence,x0,y0,x1,y1"
            (Path(home) / "f.csv").write_text("\n".join([head, *lines]))
            (Path(home) / "t.csv").write_text(
                "image,kind,label,x0,y0,x1,y1,ignore\na.jpg,label,lantern,,,,,\n"
            )
            done = command(
                "measure", "--findings", "f.csv", "--annotations", "t.csv", "--json", cwd=home
            )
            pooled = json.loads(done.stdout)["pooled"]
            self.assertEqual(
                (pooled["true_positives"], pooled["false_positives"]), (1, 0), done.stderr
            )
            done = command(
                "report",
                "--findings",
                "f.csv",
                "--annotations",
                "t.csv",
                "--out",
                "r.html",
                cwd=home,
            )
            self.assertEqual(done.returncode, 0, done.stderr)
            page = (Path(home) / "r.html").read_text()
            for kind in ("caption", "colour", "fact"):
                self.assertIn(f'"{kind}"', page)
