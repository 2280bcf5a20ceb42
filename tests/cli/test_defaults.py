"""Options from files and variables, descriptions by name, and what the doctor says of it all."""

import json
import tempfile
import tomllib
import unittest
from pathlib import Path

from tests.forked import dotledger
from tests.sending.helpers import TEXT, picture


class InAFolder(unittest.TestCase):
    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.user = self.home / "config" / "dotledger"
        self.project = self.home / "project" / "inner"
        self.project.mkdir(parents=True)
        self.user.mkdir(parents=True)

    def run_it(self, *words, cwd=None, **env):
        own = {"XDG_CONFIG_HOME": self.home / "config", "DOTLEDGER_STATE": self.home / "state"}
        return dotledger(*words, cwd=cwd or self.project, env={**own, **env})

    def trust(self, *files):
        done = self.run_it("doctor", "--trust", *files)
        self.assertEqual(done.returncode, 0, done.stderr)
        return done.stderr

    def settings(self, text, *, user=False):
        path = self.user / "settings.toml" if user else self.project.parent / "dotledger.toml"
        path.write_text(text)
        return path


class Defaults(InAFolder):
    def ledger(self, **env):
        return json.loads(self.run_it("doctor", "--json", **env).stdout)["ledger"].partition(":")[0]

    def test_which_goes_first(self):
        """The option itself, a variable, the project's file, the user's file, the library's own."""
        self.assertEqual(self.ledger(), "images.ledger")
        self.settings('ledger = "user.ledger"', user=True)
        self.assertEqual(self.ledger(), "user.ledger")
        self.settings('ledger = "project.ledger"')
        self.assertEqual(self.ledger(), "user.ledger", "of a parent that is nobody's project")
        (self.project.parent / ".git").mkdir()
        self.assertEqual(self.ledger(), "user.ledger", "not agreed to")
        self.trust()
        self.assertEqual(self.ledger(), "project.ledger")
        self.settings('ledger = "project.ledger"\n[doctor]\nledger = "doctor.ledger"')
        self.assertEqual(self.ledger(), "user.ledger", "changed since")
        self.trust()
        self.assertEqual(self.ledger(), "doctor.ledger")
        self.assertEqual(self.ledger(DOTLEDGER_LEDGER="variable.ledger"), "variable.ledger")
        done = self.run_it("doctor", "--ledger", "given.ledger", DOTLEDGER_LEDGER="variable.ledger")
        self.assertIn("given.ledger: none yet", done.stdout)
        self.assertIn(str(self.project.parent / "dotledger.toml"), done.stdout)

    def test_what_a_folder_may_say(self):
        """Without trust a folder sets what output looks like; all else is named, and not taken."""
        (self.project / "f.csv").write_text(
            "image,kind,label,confidence,x0,y0,x1,y1\na,label,b,0.5,,,,\n"
        )
        (self.project / "t.csv").write_text(
            "image,kind,label,x0,y0,x1,y1,ignore\na,label,b,,,,,0\n"
        )
        file = self.project / "dotledger.toml"
        file.write_text(
            'service = "x"\nledger = "postgresql://evil.example/x"\nthreshold = 0.9\n[measure]\nfindings = "f.csv"\n[cover]\nthreshold = 0.99\nout = "o"\n[send]\noutside = true\nbudget = 9.0\n'
        )
        done = self.run_it("measure", "--findings", "f.csv", "--annotations", "t.csv", "--json")
        self.assertEqual(json.loads(done.stdout)["threshold"], 0.9, done.stderr)
        self.assertRegex(done.stderr, "service, ledger, findings not taken from a folder's file")
        self.assertIn("dotledger doctor --trust", done.stderr)
        (self.project / "a.jpg").write_bytes(picture(1))
        # Nothing connects to that server, with whatever password this machine has for it.
        done = self.run_it(
            "cover",
            "a.jpg",
            "--findings",
            "f.csv",
            "--out",
            "a2.jpg",
            PGPASSWORD="p",
            PYTHONWARNINGS="",
        )
        self.assertRegex(done.stderr, "service, ledger, threshold, out not taken|threshold")
        self.assertNotIn("evil.example", done.stdout + done.stderr)
        done = self.run_it("send", "a.jpg", "--service", "nowhere.toml")
        self.assertRegex(done.stderr, "service, ledger, outside, budget not taken")
        self.trust()
        done = self.run_it("measure", "--annotations", "t.csv", "--json")
        self.assertNotIn("not taken", done.stderr)

    def test_numbers_and_nesting(self):
        """A number without end and nesting without end are errors that name the file."""
        file = self.project / "dotledger.toml"
        for text in ("threshold = 1e400", "threshold = nan", "threshold = " + "[" * 5000 + "]" * 5000,
                     "[measure]\nby = " + "{ a = " * 3000 + "1" + " }" * 3000):  # fmt: skip
            file.write_text(text)
            done = self.run_it("doctor")
            self.assertEqual(
                (done.returncode, done.stderr.count("Traceback")), (2, 0), done.stderr[-300:]
            )
            self.assertIn("settings that cannot be read", done.stderr)
            self.assertIn(str(file), done.stderr)
            (self.project / "bell.toml").write_text(text + "\n" + TEXT)
            done = self.run_it("forecast", "a", "--service", "bell.toml", DOTLEDGER_AGREE_KEYS="")
            self.assertEqual(
                (done.returncode, done.stderr.count("Traceback")), (2, 0), done.stderr[-300:]
            )

    def test_every_option_has_a_variable(self):
        """Flags too, by the name of the option."""
        done = self.run_it("doctor", DOTLEDGER_DOCTOR_JSON="1")
        self.assertIn("ledger", json.loads(done.stdout))

    def test_mistakes(self):
        """No TOML, a misspelt command or option, one that is not for all; named with the file."""
        for text, words in (("ledger = ", "settings that cannot be read"), ("[dokter]\na = 1", "did you mean 'doctor'"), ("[doctor]\nledgr = 'x'", "did you mean 'ledger'"),
                            ("at-most = 3", "no option that stands for every command"), ("[send]\nallow-code = true", "")):  # fmt: skip
            path = self.settings(text)
            (self.project.parent / ".git").mkdir(exist_ok=True)
            done = self.run_it("doctor")
            if words:
                self.assertEqual(done.returncode, 2, text)
                self.assertIn(words, done.stderr)
                self.assertIn(str(path), done.stderr)
        done = self.run_it("send", "x", "--service", "y.toml")
        self.assertIn("cannot be agreed to in a file", done.stderr)


class Descriptions(InAFolder):
    def test_by_name(self):
        """The user's own description goes before one of the folder, which counts only once trusted."""
        (self.project / "a.jpg").write_bytes(picture(1))
        for folder, price in ((self.project / "descriptions", "20.0"), (self.user / "descriptions", "10.0")):  # fmt: skip
            done = self.run_it("forecast", "a.jpg", "--service", "bell")
            if price == "20.0":
                self.assertIn("descriptions/, knows", done.stderr)
            folder.mkdir()
            if price == "20.0":
                (folder / "bell.toml").write_text(TEXT)
                done = self.run_it("forecast", "a.jpg", "--service", "bell")
                self.assertRegex(done.stderr, "not trusted yet.*dotledger doctor --trust")
            (folder / "bell.toml").write_text(
                TEXT.replace("per_1000 = 10.0", f"per_1000 = {price}")
            )
            said = self.trust()
            self.assertIn("Key from: env:BELL_KEY", said)
            done = self.run_it("forecast", "a.jpg", "--service", "bell", "--json")
            self.assertEqual(json.loads(done.stdout)["money"], float(price) / 1000, done.stderr)
            self.assertIn("bell is described in", done.stderr)
        done = self.run_it("doctor")
        self.assertEqual(done.stdout.count("bell.toml"), 2)

    def test_keys_are_agreed_to_once(self):
        """Where a description takes a key from is shown at its first use, and agreed to once."""
        (self.project / "a.jpg").write_bytes(picture(1))
        file = self.project / "bell.toml"
        file.write_text(TEXT)
        words = ("send", "a.jpg", "--service", "bell.toml")
        alone = {"DOTLEDGER_AGREE_KEYS": "", "BELL_KEY": "k-1"}
        done = self.run_it(*words, **alone)
        self.assertEqual(done.returncode, 2)
        self.assertRegex(
            done.stderr,
            "takes a key from env:BELL_KEY and sends it to http://127.*once.*doctor --trust bell.toml",
        )
        self.trust("bell.toml")
        done = self.run_it(*words, **alone)
        self.assertNotIn("agree to that once", done.stderr)
        file.write_text(TEXT.replace('label = "name"', 'label = "title"', 1))
        self.assertNotIn("agree", self.run_it(*words, **alone).stderr, "the key goes where it went")
        for old, new in (("BELL_KEY", "OTHER_KEY"), ("127.0.0.1:1/", "127.0.0.1:2/")):
            file.write_text(TEXT.replace(old, new))
            self.assertIn("agree to that once", self.run_it(*words, **alone).stderr, new)

    def test_extras(self):
        """Every extra that the project file names, but that of its developers, and what is missing of each."""
        facts = json.loads(self.run_it("doctor", "--json").stdout)
        project = tomllib.loads((Path(__file__).parents[2] / "pyproject.toml").read_text())
        self.assertEqual(
            {*facts["extras"]}, {*project["project"]["optional-dependencies"]} - {"dev"}
        )
        self.assertEqual(facts["extras"]["report"], [])
        self.assertTrue(facts["dotledger"].startswith("0."))
