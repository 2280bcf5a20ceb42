"""The public face: what the commands can do, from Python, with paths; and examples that run."""

import doctest
import json
import pickle
import pkgutil
import subprocess
import sys
import tempfile
import unittest
import warnings
from importlib import import_module
from pathlib import Path

import dotledger
from dotledger import Findings, write_table
from dotledger.core.displays import JsonText
from dotledger.testing import FakeTransport
from tests.core.measurement.test_measure import annotations_of, findings_of
from tests.sending.helpers import ANSWER, description, picture
from tests.test_readme import AtHome


class Examples(AtHome):
    def test_every_example_runs(self):
        """The examples in docstrings of the public face's modules give what they say."""
        dotledger.send("photos", "myservice.toml", ledger="photos.ledger")
        write_table(dotledger.findings_of("photos.ledger"), "found.csv")
        homes = sorted({f"dotledger.{home}" for home in dotledger._HOMES.values()})
        tried, failed = 0, {}
        for home in [*homes, "dotledger.text_display", "dotledger.typing"]:
            result = doctest.testmod(import_module(home))
            failed[home] = result.failed
            tried += result.attempted
        self.assertEqual({home: n for home, n in failed.items() if n}, {})
        self.assertGreater(tried, 60)


class Results(unittest.TestCase):
    def test_as_data(self):
        """Every class of results gives itself as plain data and as JSON text of a method of its own."""
        for found in pkgutil.walk_packages(dotledger.__path__, "dotledger."):
            if not found.name.startswith(("dotledger.standins", "dotledger.__main__")):
                import_module(found.name)
        waiting, seen = [JsonText], []
        while waiting:
            below = waiting.pop().__subclasses__()
            waiting += below
            seen += [one for one in below if one.__module__.startswith("dotledger.")]
        bare = {one.__name__ for one in seen if one.to_dict is JsonText.to_dict}
        self.assertEqual(bare, {"Displayed"})
        self.assertGreater(len(seen), 20)

    def test_json(self):
        """What is undefined is null, and the text is what `to_dict` holds."""
        nothing = findings_of([("a", "object", "x", 0.9, (0, 0, 2, 2))])
        result = dotledger.measure(
            nothing, annotations_of([("a", "face", "", (0, 0, 2, 2), False)])
        )
        told = json.loads(result.to_json())
        self.assertEqual(told, json.loads(json.dumps(result.to_dict())))
        self.assertIsNone(told["pooled"]["precision"])
        forecast = dotledger.forecast({"a.jpg": b"no image"}, description())
        self.assertEqual(json.loads(forecast.to_json())["refused"], 1)

    def test_pickled(self):
        """A result that another process unpickles shows itself and can be plotted there."""
        said = findings_of([("a", "object", "x", 0.9, (0, 0, 2, 2))])
        truth = annotations_of([("a", "object", "x", (0, 0, 2, 2), False)])
        result = dotledger.measure(said, truth, draws=0)
        code = (
            "import pickle, sys, matplotlib; matplotlib.use('agg')\n"
            "result = pickle.load(sys.stdin.buffer)\n"
            "print(result.plot('curve').get_xlabel(), '<table' in result._repr_html_())"
        )
        words = [sys.executable, "-c", code]
        ran = subprocess.run(words, input=pickle.dumps(result), capture_output=True, check=False)
        self.assertEqual(ran.stdout.decode().split(), ["recall", "True"], ran.stderr.decode())

    def test_names(self):
        """A misspelt name is an error for Python and for a type checker; what is deprecated warns once."""
        with self.assertRaisesRegex(AttributeError, "no attribute 'mesure'"):
            _ = dotledger.mesure
        lines = ["import dotledger", "dotledger.mesure", "reveal_type(dotledger.compare(1, 2))",
                 "reveal_type(dotledger.compare(1, 2, annotations='t.csv'))"]  # fmt: skip
        with tempfile.TemporaryDirectory() as home:
            Path(home, "typo.py").write_text("\n".join(lines))
            words = [sys.executable, "-m", "mypy", "--cache-dir", f"{home}/c", f"{home}/typo.py"]
            told = subprocess.run(words, capture_output=True, text=True, check=False).stdout
        self.assertIn('Module has no attribute "mesure"', told)
        self.assertRegex(told, r"(?s)Revealed type is .*Agreement.*Revealed type is .*Comparison")

    def test_deprecated(self):
        """Each deprecated call still works, and says once what to write instead."""
        with tempfile.TemporaryDirectory() as home:
            place = Path(home, "p.ledger")
            dotledger.Ledger(place).close()
            with warnings.catch_warnings(record=True) as caught:
                warnings.simplefilter("always")
                for _ in range(2):
                    self.assertEqual(list(dotledger.batches(place)), [])
                    self.assertEqual(list(dotledger.usage(str(place))), [])
        told = [str(one.message) for one in caught if one.category is DeprecationWarning]
        self.assertEqual(len(told), 2)
        self.assertIn("write dotledger.Ledger(path).batches()", told[0])
        self.assertEqual(caught[0].filename, __file__)


class FromPython(unittest.TestCase):
    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.ledger = self.home / "p.ledger"
        images = {f"p-{n}.jpg": picture(n) for n in range(3)}
        dotledger.send(
            images, description(), ledger=self.ledger, key="k", transport=FakeTransport([ANSWER])
        )

    def test_measure_takes_paths(self):
        """Files, tables and frames may be mixed."""
        said = findings_of([("a", "object", "x", 0.9, (0, 0, 2, 2))])
        truth = annotations_of([("a", "object", "x", (0, 0, 2, 2), False)])
        found = write_table(said, self.home / "f.csv")
        annotated = write_table(truth, self.home / "t.csv")
        for one in (said, found, str(found), said.frame()):
            for other in (truth, annotated, truth.frame()):
                self.assertEqual(dotledger.measure(one, other, draws=0).pooled.recall, 1.0)

    def test_looking_at_a_ledger(self):
        """Batches, usage, failures and raw answers, by path; answers go to files too."""
        with dotledger.Ledger(self.ledger, read_only=True) as ledger:
            [batch] = ledger.batches()
            self.assertEqual((batch.images, ledger.usage()[0].images), (3, 3))
            self.assertEqual(ledger.failures(), [])
            kept = list(ledger.answers(folder=self.home / "raw"))
            self.assertIn(batch.service, ledger._repr_html_())
        self.assertEqual([name for name, _, _ in kept], ["p-0.jpg", "p-1.jpg", "p-2.jpg"])
        self.assertEqual((self.home / "raw" / "p-0.jpg.look.json").read_bytes(), kept[0][2])

    def test_trying_forecasting_and_reading_again(self):
        """Nothing is sent by a forecast; a reading of the same description changes nothing."""
        images = {"new.jpg": picture(9), "p-0.jpg": picture(0)}
        guess = dotledger.forecast(images, description(), ledger=self.ledger)
        self.assertEqual((guess.to_send, guess.answered), (1, 1))
        self.assertEqual(
            dotledger.forecast(images, description(), ledger=self.home / "no").to_send, 2
        )
        trial = dotledger.try_call(
            picture(1), description(), key="k", transport=FakeTransport([ANSWER])
        )
        self.assertTrue(trial.well, trial.problem)
        again = dotledger.reread(self.ledger)
        self.assertEqual((again.answers, again.differences), (3, []))
        (self.home / "names.csv").write_text("label,becomes\nbell,gong\n")
        dotledger.reread(self.ledger, names=self.home / "names.csv")
        found = dotledger.findings_of(self.ledger)
        self.assertIsInstance(found, Findings)
        self.assertIn("gong", found.label.used())
        self.assertNotIn("bell", found.label.used())
        truth = annotations_of([("p-0.jpg", "object", "x", (0, 0, 2, 2), False)])
        self.assertIn(
            "as now", [fit.name for fit in dotledger.check_conventions(self.ledger, truth)]
        )
