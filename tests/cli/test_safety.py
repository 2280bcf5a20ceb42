"""The command line: nothing destroyed, nothing lively printed, no traceback, whatever is done to it."""

import json
import os
import signal
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from dotledger import send
from dotledger.testing import FakeTransport
from tests.forked import dotledger
from tests.sending.helpers import TEXT, description, picture

LIVELY = "bad\x1b[31m\u202ename\x9b2J\nline"


class Commands(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.home = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        (cls.home / "bell.toml").write_text(TEXT)
        (cls.home / "images").mkdir()
        for number in range(2):
            (cls.home / "images" / f"p-{number}.jpg").write_bytes(picture(number))
        answer = {
            "tags": [{"name": LIVELY}],
            "things": [{"name": "bell", "sure": 0.9, "box": [1, 1, 5, 5]}, {"name": LIVELY}],
            LIVELY: [1],
        }
        send(
            cls.home / "images",
            description(),
            ledger=cls.home / "l.ledger",
            key="k",
            transport=FakeTransport([answer]),
        )
        cls.truth = cls.home / "truth.csv"
        cls.truth.write_text(
            "image,kind,label,x0,y0,x1,y1,ignore\np-0.jpg,object,bell,1,1,5,5,\n"
            "p-1.jpg,object,bell,1,1,5,5,\n"
        )

    def run_(self, *words, env=None):
        changed = {n: v for n, v in (env or {}).items() if os.environ.get(n) != v}
        return dotledger(*words, cwd=self.home, env=changed)

    def test_outputs_never_destroy(self):
        """No output goes over the ledger, the truth, a link or an existing file; --replace allows the last."""
        (self.home / "old.csv").write_text("old")
        (self.home / "link.csv").symlink_to(self.truth)
        before = {p: p.read_bytes() for p in (self.truth, self.home / "l.ledger")}
        compare = ("--annotations", "truth.csv", "--ledger", "l.ledger")
        for words, sign in (
            (("findings", "--ledger", "l.ledger", "--out", "l.ledger"), "--out"),
            (("findings", "--ledger", "l.ledger", "--out", "link.csv"), "a link"),
            (("findings", "--ledger", "l.ledger", "--out", "old.csv"), "--replace"),
            (("measure", *compare, "--csv", "truth.csv", "--replace"), "read by the same command"),
            (("measure", *compare, "--csv", "rows.txt"), "neither a .csv file nor a folder"),
            (("measure", *compare, "--csv", "images"), "the folder is not empty"),
            (("reliability", *compare, "--fit", "l.ledger", "--replace"), "a ledger|read by"),
            (("reliability", *compare, "--out", "truth.csv", "--replace"), "read by"),
            (("annotations", "truth.csv", "--out", "truth.csv", "--replace"), "read by"),
            (("draw", "images", "--ledger", "l.ledger", "--out", "images", "--replace"), "read by"),
            (("draft", "old.csv", "--out", "old.csv", "--replace"), "read by"),
            (("simulate", "flint", "--folder", "none/x"), "folder above"),
        ):
            done = self.run_(*words)
            self.assertEqual(done.returncode, 2, (words, done.stderr))
            self.assertRegex(done.stderr, sign, words)
            self.assertNotIn("Traceback", done.stderr)
        self.assertEqual({p: p.read_bytes() for p in before}, before)
        self.assertEqual((self.home / "old.csv").read_text(), "old")
        words = ("findings", "--ledger", "l.ledger", "--out", "old.csv", "--replace")
        self.assertEqual(self.run_(*words).returncode, 0)
        self.assertTrue((self.home / "old.csv").read_text().startswith("image,kind,label"))

    def test_originals_are_never_written_over(self):
        """--replace goes over images that we wrote, and over no other; nor over a mapping that is read."""
        state = {"DOTLEDGER_STATE": str(self.home / "state")}
        (self.home / "photos").mkdir()
        (self.home / "photos" / "p-0.jpg").write_bytes(picture(70))
        (self.home / "names.ttl").write_text("<a:x> <a:y> <a:z> .")
        (self.home / "names.csv").write_text("label,becomes\nbell,gong\n")
        kept = [
            *(self.home / "images").iterdir(),
            *(self.home / "photos").iterdir(),
            self.home / "names.ttl",
        ]
        before = {path: path.read_bytes() for path in kept}
        mine = ("--ledger", "l.ledger", "--replace")
        for words, sign in (
            (("show", "p-0.jpg", "--picture", "images/p-0.jpg", *mine), "never written over"),
            (("show", "p-0.jpg", "--picture", "photos/p-0.jpg", *mine), "never written over"),
            (
                ("search", "--label", "bell", "--sheet", "images/p-1.jpg", *mine),
                "never written over",
            ),
            (
                ("cover", "images", "--kinds", "object", "--out", "photos", *mine),
                "never written over",
            ),
            (("draft", "--names", "names.csv", "--out", "names.ttl"), "--replace"),
            (("draft", "--names", "names.ttl", "--out", "names.ttl", "--replace"), "read by"),
        ):
            done = self.run_(*words, env=state)
            self.assertRegex(done.stderr, sign, words)
            self.assertIn(done.returncode, (2, 3), words)
            self.assertEqual({path: path.read_bytes() for path in kept}, before, words)
        words = ("show", "p-0.jpg", "--picture", "mine.png", *mine)
        for _ in range(2):  # the second time it goes over what we wrote
            self.assertEqual(self.run_(*words, env=state).returncode, 0)
        (self.home / "mine.png").write_bytes(picture(3))  # what stands there now is somebody's
        self.assertIn("never written over", self.run_(*words, env=state).stderr)
        words = ("cover", "images", "--kinds", "object", "--out", "covered", *mine)
        for _ in range(2):
            self.assertEqual(self.run_(*words, env=state).returncode, 0)

    def test_nothing_lively(self):
        """Control characters of labels, names and arguments reach neither stdout nor stderr."""
        for words in (
            ("findings", "--ledger", "l.ledger"),
            ("findings", "--ledger", "l.ledger", "--json"),
            ("findings", "--ledger", "l.ledger", "--notes"),
            ("batches", "1", "--ledger", "l.ledger"),
            ("batches", "1", "--ledger", "l.ledger", "--json"),
            ("measure", "--annotations", "truth.csv", "--ledger", "l.ledger", "--also", "reasons"),
            ("measure", "--annotations", "truth.csv", "--ledger", "l.ledger", "--json"),
            ("measure", "--annotations", LIVELY, "--ledger", "l.ledger"),
            ("findings", "--ledger", "l.ledger", "--service", LIVELY),
            ("try", LIVELY, "--service", "bell.toml", "--dry"),
            (LIVELY,),
            ("send", "images", "--service", "bell.toml", "--set", f"region={LIVELY}"),
        ):
            done = self.run_(*words, env={**os.environ, "BELL_KEY": "k"})
            said = done.stdout + done.stderr
            self.assertTrue(said, words)
            for letter in "\x1b\x9b\u202e":
                self.assertNotIn(letter, said, words)
            if "--json" in words:
                document = json.loads(done.stdout)
            if "findings" in words and "--json" in words:
                self.assertIn("\u202e", json.dumps(document, ensure_ascii=False))

    def test_columns_of_the_users_own(self):
        """Control characters in names of columns reach the terminal no more than those of values."""
        name = "we\x1b[31mather\u202e\x9b"
        (self.home / "own.csv").write_text(f"image,{name}\np-0.jpg,a{name}\np-1.jpg,b\n")
        compare = (
            "measure",
            "--annotations",
            "truth.csv",
            "--ledger",
            "l.ledger",
            "--images",
            "own.csv",
        )
        for words in (
            (*compare, "--by", name),
            (*compare, "--by", "nope"),
            ("annotations", "own.csv"),
            ("names", "own.csv", "--ledger", "l.ledger"),
        ):
            done = self.run_(*words)
            self.assertTrue(done.stdout + done.stderr, words)
            for letter in "\x1b\x9b\u202e":
                self.assertNotIn(letter, done.stdout + done.stderr, words)

    def test_arguments(self):
        """A wrong value of an option is one line that names the option, and exit status 2."""
        compare = ("measure", "--annotations", "truth.csv", "--ledger", "l.ledger")
        for words, sign in (
            (("try", "--service", "bell.toml", "--call", "lok"), r"--call.*did you mean .look"),
            ((*compare, "--seed", "-1"), "seed"),
            ((*compare, "--draws", "2147483648"), "draws"),
            ((*compare, "--overlap", "x"), "--overlap"),
            (("send", "images", "--service", "bell.toml", "--set", "x"), "NAME=VALUE"),
            (("findings", "--ledger", "l.ledger", "--label", "bel"), "--label.*did you mean .bell"),
            (
                (*compare, "--threshold", "object:bel=0.5"),
                "'object:bel' in threshold; did you mean .bell",
            ),
            ((*compare, "--by", "light"), "nothing to slice by"),
            ((*compare, "--by", "light", "--json"), "nothing to slice by"),
            (("send", "images", "--service", "bell.toml", "--ledger", ":memory:"), "needs a file"),
        ):
            done = self.run_(*words, env={**os.environ, "BELL_KEY": "k"})
            self.assertEqual((done.returncode, "Traceback" in done.stderr), (2, False), done.stderr)
            self.assertRegex(done.stderr, sign)
            self.assertEqual(done.stdout, "", words)

    def test_other_streams(self):
        """Letters that a stream lacks, closed streams and a reader that leaves are no errors."""
        words = (sys.executable, "-m", "dotledger", "findings", "--ledger", "l.ledger")
        plain = {**os.environ, "PYTHONIOENCODING": "ascii", "LC_ALL": "C"}
        done = self.run_("batches", "1", "--ledger", "l.ledger", env=plain)
        self.assertEqual((done.returncode, "Traceback" in done.stderr), (0, False), done.stderr)
        for shell in ('"$@" >&-', '"$@" 2>&-', '"$@" >&- 2>&-', '"$@" | true'):
            done = subprocess.run(
                ["sh", "-c", shell, "sh", *words],
                cwd=self.home, capture_output=True, text=True, check=False,
            )  # fmt: skip
            self.assertNotIn("Traceback", done.stderr, shell)
            self.assertEqual(done.returncode, 0, shell)

    def test_interrupted_at_once(self):
        """Ctrl-C while the command is still loading ends it without a traceback."""
        code = (
            "import os, signal, sys, importlib.abc\n"
            "signal.signal(signal.SIGINT, signal.default_int_handler)\n"
            "class Interrupting(importlib.abc.MetaPathFinder):\n"
            "    def find_spec(self, name, path, target=None):\n"
            "        if name == 'click':\n"
            "            os.kill(os.getpid(), signal.SIGINT)\n"
            "sys.meta_path.insert(0, Interrupting())\n"
            "from dotledger.__main__ import run\n"
            "run()\n"
        )
        done = subprocess.run(
            [sys.executable, "-c", code], capture_output=True, text=True, check=False
        )
        self.assertEqual((done.returncode, done.stdout, done.stderr), (-signal.SIGINT, "", ""))

    def test_devices_and_lists(self):
        """A pipe or device as image, key or list ends at once; a list stays below its folder."""
        os.mkfifo(self.home / "images" / "pipe.jpg")
        self.addCleanup((self.home / "images" / "pipe.jpg").unlink)
        (self.home / "images" / "self.jpg").symlink_to("self.jpg")
        self.addCleanup((self.home / "images" / "self.jpg").unlink)
        (self.home / "zero.toml").write_text(TEXT.replace("env:BELL_KEY", "file:/dev/zero"))
        (self.home / "list").write_text("/etc/hostname\n../x.jpg\nimages/p-0.jpg\n")
        for words, sign in (
            (("forecast", "images", "--service", "bell.toml"), "a pipe, device or socket"),
            (("send", "images", "--service", "bell.toml"), "pipe.jpg.*; .*self.jpg|self.jpg.*pipe"),
            (("try", "/dev/zero", "--service", "bell.toml"), "a pipe, device or socket"),
            (("try", "--service", "zero.toml"), "this is a device"),
            (("send", "@list", "--service", "bell.toml"), "hostname: not below.*--outside"),
        ):
            done = self.run_(*words)
            self.assertRegex(done.stdout + done.stderr, sign, words)
        self.assertIn(
            "2 of the images", self.run_("send", "@list", "--service", "bell.toml").stderr
        )
        (self.home / "list").write_text("images/p-0.jpg\n")
        done = self.run_("forecast", "@list", "--service", "bell.toml", "--ledger", "none")
        self.assertIn("1 image to bell", done.stdout)
        self.assertIn("Goes to: http://127.0.0.1:1/north", done.stdout)
