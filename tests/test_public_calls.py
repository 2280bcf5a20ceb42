"""The public face: what the commands can do, from Python, with paths; and examples that run."""

import doctest
import tempfile
import unittest
from importlib import import_module
from pathlib import Path

import dotledger
from dotledger import Findings, write_table
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
        [batch] = dotledger.batches(self.ledger)
        self.assertEqual((batch.images, dotledger.usage(self.ledger)[0].images), (3, 3))
        self.assertEqual(dotledger.failures(self.ledger), [])
        kept = list(dotledger.raw_answers(self.ledger, folder=self.home / "raw"))
        self.assertEqual([name for name, _, _ in kept], ["p-0.jpg", "p-1.jpg", "p-2.jpg"])
        self.assertEqual((self.home / "raw" / "p-0.jpg.look.json").read_bytes(), kept[0][2])

    def test_trying_forecasting_and_reading_again(self):
        """Nothing is sent by a forecast; a reading of the same description changes nothing."""
        images = {"new.jpg": picture(9), "p-0.jpg": picture(0)}
        guess = dotledger.forecast(images, description(), ledger=self.ledger)
        self.assertEqual((guess.to_send, guess.answered), (1, 1))
        self.assertEqual(dotledger.forecast(images, description(), ledger=self.home / "no").to_send, 2)  # fmt: skip
        trial = dotledger.try_call(picture(1), description(), key="k", transport=FakeTransport([ANSWER]))  # fmt: skip
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
