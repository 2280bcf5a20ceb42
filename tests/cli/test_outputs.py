"""What commands print with --json follows its schema; each run of the tests checks what it reads."""

import json
import shlex
import tempfile
import unittest

import jsonschema

from dotledger.cli.output_schemas import head_of, output_names, output_schema
from dotledger.errors import ArgumentError
from tests.forked import check_output, dotledger
from tests.walk import walk_in

TABLES = "--findings flint.csv --annotations annotations.csv"
NAMED = (
    '{"image": "%s", "kind": "face", "label": "face", "confidence": 0.9, "x0": 0, "y0": 0, "x1": 9, '
    '"y1": 9, "details": {"attributes": {"name": {"name": "Old Reed", "similarity": %s}}}}\n'
)
GATES = 'gates_file = 1\n[[gate]]\nmeasure = "recall"\nof_each = "kind"\nat_least = 0.9\n'
# A line an output: its name, the exit status, and the words that print it.
COMMANDS = f"""
doctor       0 doctor
try          0 try --service flint.toml --dry
forecast     0 forecast images --repair whole --service flint.toml --ledger walk.ledger
send         3 send images --service flint.toml --ledger walk.ledger
batches      0 batches --ledger walk.ledger
batch        0 batches 2 --ledger walk.ledger
usage        0 batches --by month --ledger walk.ledger
reread       0 reread --service edited.toml --ledger walk.ledger
findings     0 findings --service flint --names names.csv --ledger walk.ledger
notes        0 findings --service flint --notes --ledger walk.ledger
show         0 show crowd-03.jpg --service marl --annotations annotations.csv --rules rules.toml --raw --ledger walk.ledger
search       0 search --label lantern --ledger walk.ledger
draw         0 draw few {TABLES} --out drawn
annotations  0 annotations annotations.csv --images images
measure      0 measure {TABLES} --names names.csv --also conventions --images images.csv --overlap 0.5,0.75 --threshold label=0.5,face=0.7
persons      0 persons --findings named.jsonl --annotations named.csv --similarity 0.5 --aim "at most 60% of names are false" --parts 2
pairs        0 pairs pairs.csv --similarity 0.5 --aim "false-match rate <= 50%" --parts 2
reliability  0 reliability {TABLES} --fit map.json
sweep        0 choose {TABLES}
choose       1 choose {TABLES} --aim recall>=0.6
choose-two   1 choose {TABLES} --kinds unsafe --aim "at most 1% of unsafe images pass, at most 5% of safe images are stopped"
compare      0 compare flint marl --annotations annotations.csv --claim "recall 0.9" --ledger walk.ledger
agreement    0 compare flint marl --ledger walk.ledger
answers      0 review --in asked.csv --who anna --service flint --ledger walk.ledger
screen       0 screen rules.toml --service flint --annotations annotations.csv --ledger walk.ledger
sort         0 sort few --findings flint.csv --out sorted
copies       0 copies few --known few
cover        1 cover few --findings flint.csv --annotations annotations.csv --out covered-2
forget       0 forget crowd-01.jpg --ledger walk.ledger --also few
drift        0 drift flint marl --ledger walk.ledger
watch        0 drift flint --since 1 --ledger walk.ledger
gate         1 gate gates.toml {TABLES}
"""


class EveryOutput(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.walk, _ = walk_in(cls.enterClassContext(tempfile.TemporaryDirectory()))
        few = cls.walk / "few"
        few.mkdir()
        for name in ("walk-01.jpg", "moon-01.jpg", "crowd-01.jpg"):
            (few / name).write_bytes((cls.walk / "images" / name).read_bytes())
        (cls.walk / "gates.toml").write_text(GATES)
        (cls.walk / "names.csv").write_text(
            "kind,label,becomes\nobject,lantern,light\n,pear,fruit\n"
        )
        (cls.walk / "named.jsonl").write_text(NAMED % ("a", 0.9) + NAMED % ("b", 0.4))
        (cls.walk / "named.csv").write_text(
            "image,kind,label,x0,y0,x1,y1,name,stranger\na,face,face,0,0,9,9,Old Reed,\n"
            "b,face,face,0,0,9,9,,yes\n"
        )
        (cls.walk / "pairs.csv").write_text(
            "left,right,same,similarity\na,b,yes,0.9\nc,d,no,0.2\ne,f,no,\n"
        )
        (cls.walk / "asked.csv").write_text(
            "image,label: lantern\ncrowd-01.jpg,yes\nfair-01.jpg,\n"
        )
        edited = (cls.walk / "flint.toml").read_text().replace('case = "lower"\n', "", 1)
        (cls.walk / "edited.toml").write_text(edited)

    def test_every_one(self):
        """Each output begins with what it is and its version, and holds what its schema names."""
        lines = [line.split(maxsplit=2) for line in COMMANDS.strip().splitlines()]
        for output, status, words in lines:
            with self.subTest(output):
                done = dotledger(
                    *shlex.split(words), "--json", cwd=self.walk, env={"FLINT_KEY": "x"}
                )
                self.assertEqual(done.returncode, int(status), done.stderr)
                told = json.loads(done.stdout)
                self.assertEqual(list(told.items())[:2], list(head_of(output).items()))
        self.assertEqual(
            {*output_names()} - {output for output, _, _ in lines},
            {"demo", "review"},
            "see test_commands, test_reviewing",
        )

    def test_shares_of_persons_and_pairs_stay(self):
        """At 80 columns counts are left out, never the shares that answer the question."""
        for words, shares in (
            (("persons", "--findings", "named.jsonl", "--annotations", "named.csv"), ("right of enrolled", "strangers named", "false names")),
            (("pairs", "pairs.csv"), ("false-match rate", "false-non-match rate")),
        ):  # fmt: skip
            done = dotledger(*words, cwd=self.walk, env={"COLUMNS": "80"})
            self.assertEqual(done.returncode, 0, done.stderr)
            heading = next(x for x in done.stdout.splitlines() if x.startswith("similarity"))
            for share in shares:
                self.assertIn(share, heading)
            self.assertLessEqual(max(map(len, done.stdout.splitlines())), 90)

    def test_schemas(self):
        """Each is a JSON Schema, as the command prints it; a key that goes is noticed, one that comes is not."""
        for output in output_names():
            jsonschema.Draft202012Validator.check_schema(output_schema(output))
        done = dotledger("doctor", "--schema", "usage")
        schema = json.loads(done.stdout)
        self.assertEqual(schema, output_schema("usage"))
        self.assertEqual(
            schema["$defs"]["PriceNow"]["properties"]["used"]["description"],
            "Units of the month so far.",
        )
        month = {"service": "bell", "month": "2026-11", "currency": "EUR", "calls": 3, "failed": 0, "images": 3, "money": 0.1, "per_month": None, "left": None, "price_now": None}  # fmt: skip
        told = {**head_of("usage"), "months": [month]}
        check = jsonschema.Draft202012Validator(schema)
        self.assertEqual(list(check.iter_errors({**told, "later": 1})), [])
        del month["failed"]
        self.assertEqual(
            [error.message for error in check.iter_errors(told)],
            ["'failed' is a required property"],
        )
        self.assertIn("neither a sort of file", dotledger("doctor", "--schema", "batchs").stderr)
        self.assertIn("one at a time", dotledger("doctor", "--schema", "rules", "--trust").stderr)
        with self.assertRaises(ArgumentError):
            output_schema("batchs")

    def test_the_check_itself(self):
        """What the tests read is held to the last key: one without a place in the schema is refused."""
        told = {**head_of("notes"), "notes": []}
        check_output(json.dumps(told))
        for wrong in ({**told, "later": 1}, {**told, "version": 9}, head_of("notes")):
            with self.assertRaises(jsonschema.ValidationError):
                check_output(json.dumps(wrong))
