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
        return dotledger(*words, cwd=cwd or self.project, env={"XDG_CONFIG_HOME": self.home / "config", **env})  # fmt: skip

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
        self.assertEqual(self.ledger(), "project.ledger")
        self.settings('ledger = "project.ledger"\n[doctor]\nledger = "doctor.ledger"')
        self.assertEqual(self.ledger(), "doctor.ledger")
        self.assertEqual(self.ledger(DOTLEDGER_LEDGER="variable.ledger"), "variable.ledger")
        done = self.run_it("doctor", "--ledger", "given.ledger", DOTLEDGER_LEDGER="variable.ledger")
        self.assertIn("given.ledger: none yet", done.stdout)
        self.assertIn(str(self.project.parent / "dotledger.toml"), done.stdout)

    def test_every_option_has_a_variable(self):
        """Flags too, by the name of the option."""
        done = self.run_it("doctor", DOTLEDGER_DOCTOR_JSON="1")
        self.assertIn("ledger", json.loads(done.stdout))

    def test_mistakes(self):
        """No TOML, a misspelt command or option, one that is not for all; named with the file."""
        for text, words in (("ledger = ", "settings that cannot be read"), ("[dokter]\na = 1", "did you mean 'doctor'"), ("[doctor]\nledgr = 'x'", "did you mean 'ledger'"),
                            ("at-most = 3", "no option that stands for every command"), ("[send]\nallow-code = true", "")):  # fmt: skip
            path = self.settings(text)
            done = self.run_it("doctor")
            if words:
                self.assertEqual(done.returncode, 2, text)
                self.assertIn(words, done.stderr)
                self.assertIn(str(path), done.stderr)
        done = self.run_it("send", "x", "--service", "y.toml")
        self.assertIn("cannot be agreed to in a file", done.stderr)


class Descriptions(InAFolder):
    def test_by_name(self):
        """A description of the project's folder goes before one of the user's; which is said."""
        (self.project / "a.jpg").write_bytes(picture(1))
        for folder, price in ((self.user / "descriptions", "10.0"), (self.project / "descriptions", "20.0")):  # fmt: skip
            done = self.run_it("forecast", "a.jpg", "--service", "bell")
            if price == "10.0":
                self.assertIn("descriptions/, knows", done.stderr)
            folder.mkdir()
            (folder / "bell.toml").write_text(TEXT.replace("per_1000 = 10.0", f"per_1000 = {price}"))  # fmt: skip
            done = self.run_it("forecast", "a.jpg", "--service", "bell", "--json")
            self.assertEqual(json.loads(done.stdout)["money"], float(price) / 1000, done.stderr)
            self.assertIn("bell is described in", done.stderr)
        done = self.run_it("doctor")
        self.assertEqual(done.stdout.count("bell.toml"), 2)

    def test_extras(self):
        """Every extra that the project file names, but that of its developers, and what is missing of each."""
        facts = json.loads(self.run_it("doctor", "--json").stdout)
        project = tomllib.loads((Path(__file__).parents[2] / "pyproject.toml").read_text())
        self.assertEqual({*facts["extras"]}, {*project["project"]["optional-dependencies"]} - {"dev"})  # fmt: skip
        self.assertEqual(facts["extras"]["report"], [])
        self.assertTrue(facts["dotledger"].startswith("0."))
