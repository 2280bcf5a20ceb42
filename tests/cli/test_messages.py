"""What commands say when they are used wrongly: in place, in words, with exit status 2."""

import contextlib
import io
import os
import re
import shlex
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import click

from dotledger.cli import run
from dotledger.cli.options.common_options import print_table, say, say_problems
from dotledger.cli.options.label_names import mapping_lines
from dotledger.cli.options.option_names import as_options, option_of
from tests.sending.helpers import TEXT, picture

FOUND = "image,kind,label,confidence,x0,y0,x1,y1\na.jpg,object,lantern,0.9,0,0,5,5\n"
TRUTH = "image,kind,label,x0,y0,x1,y1,ignore\na.jpg,object,lantern,0,0,5,5,\n"

# A command, and what its message holds: the place first.
WRONG = [
    ("sweep --findings f.csv", "sweep is now: dotledger choose, without --aim"),
    ("upgrade --ledger l", "upgrade is now: dotledger doctor --upgrade"),
    ("choose --findings f.csv --annotations t.csv --out x.toml", "--out keeps what --aim chooses"),
    (
        "choose --findings f.csv --annotations t.csv --aim recall>=0.5 --csv x.csv",
        "--csv goes without --aim",
    ),
    ("choose --findings f.csv --annotations t.csv --surely 0.9", "--surely goes with --aim"),
    ("drift f.csv f.csv --looks 3", "dotledger: --looks goes with --since"),
    ("drift --since 1 --draws 50", "--draws is for two runs"),
    ("batches 2 --by month", "--by month is about all batches"),
    ("try text.jpg --service s.toml", "text.jpg: not an image"),
    ("try nowhere.jpg --service s.toml", "nowhere.jpg: No such file"),
    ("try http://127.0.0.1:9/x.jpg --service s.toml", "127.0.0.1:9/x.jpg: cannot be fetched"),
    ("try --service s.toml --call viw", "--call: no such call"),
    ("try --service s.toml --kinds lable", "--kinds: unknown kind"),
    ("try --service s.toml --set hello", "--set: write NAME=VALUE"),
    ("forecast nowhere --service s.toml", "nowhere: No such file"),
    ("send nowhere --service s.toml", "add --skip-missing"),
    ("send a.jpg --service s.toml --at-most 0", "--at-most: a whole number"),
    ("findings --ledger text.jpg", "text.jpg: not a Dot Ledger database"),
    ("findings --ledger no.ledger", "no.ledger: no ledger here"),
    ("measure --findings f.csv --annotations no.csv", "no.csv: the file cannot be read (No such"),
    ("measure --findings t.csv --annotations f.csv", "swapped"),
    ("measure --findings f.csv --annotations t.csv --overlap 0", "--overlap: "),
    ("measure --findings f.csv --annotations t.csv --threshold 2", "--threshold: "),
    ("measure --findings f.csv --annotations t.csv --threshold object:lantren=0.5", "'lantern'"),
    ("measure --findings f.csv --annotations t.csv --by light --json", "--by: "),
    ("measure --findings f.csv --annotations t.csv --by size:3,2", "--by: edges must rise"),
    ("measure --findings f.csv --annotations t.csv --match exactly", "--match: "),
    ("measure --findings f.csv --annotations t.csv --draws=-1", "--draws: "),
    ("measure --findings f.csv --annotations t.csv --names no.csv", "no.csv: the file cannot be"),
    ("measure --findings f.csv --annotations t.csv --vocabulary x", "--vocabulary: "),
    ("measure --findings f.csv --annotations t.csv --csv f.csv", "--csv: this file is read"),
    ("measure --findings f.csv --annotations pictures", "no image holds image regions"),
    ("draw nowhere --findings f.csv --out pics", "nowhere: No such file"),
    ("draw . --findings f.csv --out pics --overlap 3", "--overlap: "),
    ("cover x --kinds face,object --out y", "--kinds: one kind at a time"),
    ("sort x --kinds fase --out y", "--kinds: unknown kind"),
    ("search --kinds fase --ledger l", "--kinds: unknown"),
    ("names no.csv --findings f.csv", "names is now: dotledger findings --names FILE"),
    ("draft --names no.csv --out x.ttl", "no.csv: the file cannot be read (No such"),
    ("draft --names no.csv", "--names needs --out FILE"),
    ("mesure", "did you mean 'measure'"),
]


def called(*words):
    """Run the command in this process; return status, stdout and stderr."""
    out, err = io.StringIO(), io.StringIO()
    with (
        mock.patch.object(sys, "argv", ["dotledger", *words]),
        contextlib.redirect_stdout(out),
        contextlib.redirect_stderr(err),
    ):
        try:
            run()
        except SystemExit as leaving:
            status = leaving.code or 0
    return status, out.getvalue(), err.getvalue()


class WrongUse(unittest.TestCase):
    def test_bare(self):
        """Without a word the command prints its help, as it is, and that is no mistake."""
        status, out, err = called()
        self.assertEqual((status, err), (0, ""))
        self.assertIn("\n\nMeasure:\n", out)

    def setUp(self):
        home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.enterContext(contextlib.chdir(home))
        self.enterContext(mock.patch.dict(os.environ, {"BELL_KEY": "k"}))
        (home / "pictures").mkdir()
        (home / "pictures" / "a.jpg").write_bytes(picture(1))
        (home / "a.jpg").write_bytes(picture(1))
        for name, text in (("text.jpg", "hello"), ("f.csv", FOUND), ("t.csv", TRUTH)):
            (home / name).write_text(text)
        (home / "s.toml").write_text(TEXT)

    def test_every_message_names_its_place_and_leaves_with_2(self):
        """No number of an error, no representation of an object, no other command's advice."""
        for words, wanted in WRONG:
            with self.subTest(words):
                status, _, err = called(*shlex.split(words))
                self.assertEqual(status, 2, err)
                self.assertIn(wanted, err)
                self.assertNotRegex(err, r"Errno|np\.|Traceback|\bb'|Error\(")
                if not words.startswith("send"):
                    self.assertNotIn("--skip-missing", err)
                made = re.findall(r"pics|images.ledger", " ".join(os.listdir()))
                self.assertEqual(made, [])

    def test_the_starter_loads(self):
        """The starter is a description as it is; without it and samples draft says what to do."""
        from dotledger.services.service_description import parse_description

        status, out, _ = called("draft", "--starter")
        self.assertEqual((status, parse_description(out).kinds), (0, ("label",)))
        self.assertLessEqual(len(out.splitlines()), 32)
        status, _, err = called("draft")
        self.assertEqual(status, 2)
        self.assertIn("--starter", err)

    def test_help_stands_under_headings(self):
        """The order of work: start, send, read, look, measure."""
        _, out, _ = called("--help")
        places = [out.index(f"{word}:\n") for word in ("Start", "Send", "Read", "Look", "Measure")]
        self.assertEqual(places, sorted(places))
        self.assertIn("glossary", out)


class OptionNames(unittest.TestCase):
    def test_arguments_become_options(self):
        """What the library calls an argument is an option of this command, if it has one."""
        command = click.Command(
            "some",
            params=[
                click.Option(["--replace"]),
                click.Option(["--columns"]),
                click.Option(["--set"]),
            ],
        )
        for text, told in (
            ("Allow it: `replace=True`.", "Allow it: --replace."),
            ("Name them: `columns={'image': THEIRS, 'label': L}`.", "Name them: --columns image=THEIRS,label=L."),
            ("Give `settings={'port': 80}`.", "Give --set port=80."),
            ("Give `ledger=FILE`.", "Give `ledger=FILE`."),
            ("Make one with `dotledger.write_prints`.", "Make one with `dotledger copies --keep FILE`."),
        ):  # fmt: skip
            self.assertEqual(as_options(text, command), told)
        self.assertEqual(option_of("columns: label", command), "--columns: label")
        self.assertEqual(option_of("ledger", command), "ledger")
        self.assertEqual(as_options("`replace=True`", None), "`replace=True`")

    def test_what_others_wrote_stays(self):
        """Names of images and labels are printed as they are, also where they look like arguments."""
        command = click.Command("some", params=[click.Option(["--replace"])])
        said, shown = io.StringIO(), io.StringIO()
        with (
            click.Context(command),
            contextlib.redirect_stderr(said),
            contextlib.redirect_stdout(shown),
        ):
            say_problems("cannot be read", [("`replace=True`.jpg", "allow it: `replace=True`")])
            say("label `replace=True`")
            print_table("label `replace=True`")
        self.assertEqual(
            said.getvalue(),
            "cannot be read: `replace=True`.jpg: allow it: --replace\nlabel `replace=True`\n",
        )
        self.assertEqual(shown.getvalue(), "label `replace=True`\n")


class LabelNames(unittest.TestCase):
    def test_what_a_mapping_leaves_open(self):
        """Each line is there only where it has something to say, and counts one as one."""
        for left_out, unmapped, unused, lines in (
            (0, [], [], []),
            (1, [], [], ["1 finding left out by n.csv."]),
            (2, [("object", "pear", 3, "pearl")], [], ["2 findings left out by n.csv.", "Labels missing from n.csv: pear (3), like pearl."]),
            (0, [], [("object", "lanter", "")], ["Entries of n.csv that match no finding: lanter."]),
        ):  # fmt: skip
            mapped = mock.Mock(left_out=left_out, unmapped=unmapped, unused=unused)
            self.assertEqual(mapping_lines(mapped, "n.csv"), lines)
