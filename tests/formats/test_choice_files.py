"""Files of thresholds, gates and expectations: round trips, and what is said of wrong ones."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

from dotledger import check_gates, choose_thresholds, measure, read_thresholds, write_thresholds
from dotledger.core.comparison.release_gates import GATE_MEASURES
from dotledger.core.tables.table_origin import Origin
from dotledger.errors import ArgumentError, DescriptionError, TableError
from dotledger.formats.gates_files import read_expectations, read_gates
from dotledger.testing import GateAssertions
from tests.core.thresholds.test_choose_thresholds import worked


class InFolder(unittest.TestCase):
    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def file(self, name, text):
        path = self.home / name
        path.write_text(text, encoding="utf-8")
        return path


class Thresholds(InFolder):
    def choice(self, service, aim="recall >= 0.8", **options):
        found, true = worked()
        table = replace(found, origin=Origin(service=service))
        return choose_thresholds(table, true, aim=aim, parts=2, draws=20, now=0, **options)

    def test_round_trip(self):
        """What is read again is what was chosen; several services stand in one file."""
        path = self.home / "t.toml"
        write_thresholds(path, [self.choice("flint"), self.choice('a "b"\n]\x7f')])
        kept = read_thresholds(path)
        self.assertEqual(kept.aim, "recall >= 0.8")
        self.assertEqual(kept.chosen, "1970-01-01T00:00:00Z")
        self.assertEqual(kept.thresholds_for("flint"), {"object": 0.6})
        self.assertEqual(kept.thresholds_for('a "b"\n]\x7f'), {"object": 0.6})
        self.assertTrue(kept.annotations.startswith("sha256:"))
        recall = kept.services["flint"].outcome["object"]["recall"]
        self.assertTrue(recall.low <= recall.value <= recall.high)
        write_thresholds(path, [self.choice("marl")], join=kept)
        again = read_thresholds(path)
        self.assertEqual(sorted(again.services), ['a "b"\n]\x7f', "flint", "marl"])
        self.assertEqual(again.services["flint"].thresholds, {"object": 0.6})
        with self.assertRaisesRegex(ArgumentError, "one aim"):
            write_thresholds(path, [self.choice("marl", "best f1")], join=again)

    def test_given_as_threshold(self):
        """The file serves its own service, and is refused for another, or below the floor."""
        path = self.home / "t.toml"
        write_thresholds(path, [self.choice("flint")])
        found, true = worked()
        for service in ("flint", ""):
            table = replace(found, origin=Origin(service=service))
            self.assertEqual(measure(table, true, threshold=path).pooled.true_positives, 8)
        with self.assertRaisesRegex(ArgumentError, "none for marl"):
            measure(replace(found, origin=Origin(service="marl")), true, threshold=str(path))
        with self.assertRaisesRegex(ArgumentError, "floor"):
            measure(replace(found, origin=Origin(floor=0.7)), true, threshold=path)
        write_thresholds(path, [self.choice("")])
        measure(replace(found, origin=Origin(service="marl")), true, threshold=path)

    def test_three_ways(self):
        """Both thresholds are kept."""
        found, true = worked()
        aim = "at most 20% of unsafe images pass, at most 5% of safe images are stopped"
        chosen = choose_thresholds(found, true, aim=aim, parts=2, draws=0)
        write_thresholds(self.home / "w.toml", [chosen])
        kept = read_thresholds(self.home / "w.toml")
        self.assertEqual(kept.hold_from("any"), {"object": chosen.hold_from})
        self.assertEqual(kept.thresholds_for("any"), {"object": chosen.stop_from})

    def test_wrong_files(self):
        """Line and key are named, with the nearest right one; so is a value out of range."""
        head = "thresholds_file = 1\n[services.any.thresholds]\n"
        for text, error, why in (
            (head + "object = 1.5", DescriptionError, "'object' is 1.5, not from 0 to 1"),
            ("thresholds_file = 1\naims = 'x'\n[services]", DescriptionError, "did you mean 'aim'"),
            ("thresholds_file = 2\n[services]", DescriptionError, "line 1"),
            ("aim = 'x'\n[services]", DescriptionError, "'thresholds_file' is missing"),
            ("no toml", DescriptionError, "not TOML"),
        ):
            path = self.file("t.toml", text)
            with self.subTest(text=text), self.assertRaisesRegex(error, why):
                read_thresholds(path)
        with self.assertRaisesRegex(TableError, "dotledger.write_thresholds"):
            read_thresholds(self.home / "none.toml")


class Gates(InFolder):
    def test_file(self):
        """Conditions, an earlier run, expectations next to the file, and thresholds of a file."""
        found, true = worked()
        write_thresholds(
            self.home / "t.toml",
            [choose_thresholds(found, true, aim="recall >= 0.8", parts=2, draws=0)],
        )
        self.file(
            "e.csv",
            "image,kind,label,at_least,at_most,reason\ni0,object,x,1,,\ni9,object,x,1,,far\n",
        )
        gates = self.file("g.toml", """
            gates_file = 1
            threshold = "t.toml"
            [[gate]]
            measure = "recall"
            of = "object"
            at_least = 0.8
            [[gate]]
            measure = "recall"
            falls_at_most = 0.1
            against = "before"
            [[gate]]
            expectations = "e.csv"
        """)  # fmt: skip
        verdicts = check_gates(found, true, gates, before={"before": found}, draws=0)
        self.assertEqual([one.holds for one in verdicts.judged], [True, True, False])
        self.assertIn("i9 object x: 0 found, at least 1 expected", verdicts.judged[2].why)
        self.assertIn("far", verdicts.judged[2].why)
        whole = check_gates(found, true, gates, before={"before": found}, threshold=0.5, draws=0)
        self.assertTrue(whole.holds)

    def test_expected_verdicts(self):
        """A gates file names rules; an expectation then may be a verdict."""
        found, true = worked()
        self.file(
            "r.toml",
            "rules_file = 1\n[[rule]]\nverdict = 'block'\nkind = 'object'\nconfidence = 0.9\n",
        )
        self.file("e.csv", "image,verdict\ni0,block\ni5,block\n")
        gates = self.file(
            "g.toml", "gates_file = 1\nrules = 'r.toml'\n[[gate]]\nexpectations = 'e.csv'\n"
        )
        [one] = check_gates(found, true, gates, draws=0).judged
        self.assertIn("i5 verdict: pass, block expected", one.why)
        self.assertEqual((one.value, one.counts), (1.0, "1 of 2"))

    def test_in_a_users_own_suite(self):
        """The mixin fails once for each gate and each image, with the reason."""
        found, true = worked()
        gates = self.file(
            "g.toml",
            "gates_file = 1\n[[gate]]\nmeasure = 'recall'\nat_least = 1.0\n[[gate]]\nmeasure = 'precision'\nat_least = 0.99\n",
        )
        wanted = self.file("e.toml", "[[expect]]\nimage = 'i0'\nkind = 'object'\nat_most = 0\n")

        class Suite(GateAssertions):
            def test_gates(self):
                self.assert_gates_hold(found, true, gates, draws=0)

            def test_images(self):
                self.assert_expected(wanted, found)

        result = unittest.TestResult()
        unittest.defaultTestLoader.loadTestsFromTestCase(Suite).run(result)
        reasons = sorted(text.splitlines()[-1] for _, text in result.failures)
        self.assertEqual(len(reasons), 2)
        self.assertIn("0.769, at least 0.99 asked", reasons[0])
        self.assertIn("2 found, none expected", reasons[1])

    def test_every_measure_of_the_core(self):
        """What a gate may be about, a file may say."""
        for word in GATE_MEASURES:
            with self.subTest(word=word):
                limit = (
                    "expectations = 'e.csv'" if word == "unmet_expectations" else "at_most = 0.5"
                )
                text = f"gates_file = 1\n[[gate]]\nmeasure = '{word}'\n{limit}\n"
                self.assertEqual(read_gates(self.file("g.toml", text)).gate[0].measure, word)

    def test_what_is_no_text(self):
        """A file that is not there, and one that is no text, are told apart."""
        with self.assertRaisesRegex(TableError, "No such file"):
            read_gates(self.home / "gone.toml")
        (self.home / "odd.toml").write_bytes(b"\xff\xfe")
        with self.assertRaisesRegex(TableError, "not text in UTF-8"):
            read_gates(self.home / "odd.toml")

    def test_wrong_files(self):
        """Line, key or cell are named."""
        head = "gates_file = 1\n[[gate]]\n"
        for text, why in (
            (head + "mesure = 'recall'", "line 3.*did you mean 'measure'"),
            (head + "measure = 'recal'\nat_least = 0.1", "did you mean 'recall'"),
            (head + "measure = 'recall'\nfalls_at_most = 0.1", "needs against"),
            (head + "measure = 'recall'\nexpectations = 'e.csv'", "unmet_expectations"),
            (head + "measure = 'recall'\nat_least = 'high'", "line 4"),
        ):
            with self.subTest(text=text), self.assertRaisesRegex(DescriptionError, why):
                read_gates(self.file("g.toml", text))
        for text, why in (
            ("image,kind,lable\n", "did you mean 'label'"),
            ("image,label\n", "'kind' is missing"),
            ("image,kind\n", "no expectation"),
            ("image,kind,at_least\na,object,two\n", "line 2, at_least"),
            ("image,kind,at_most\na,object,\n", "line 2.*nothing is expected"),
        ):
            with self.subTest(text=text), self.assertRaisesRegex(TableError, why):
                read_expectations(self.file("e.csv", text))
