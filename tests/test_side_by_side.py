"""Tests that run in other processes: what fails there fails here, and nothing is lost."""

import contextlib
import io
import os
import re
import sys
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from tests.side_by_side import SideBySide

ODD = """
import os, unittest

class Odd(unittest.TestCase):
    def test_right(self):
        print("not an answer")
    def test_wrong(self):
        self.assertEqual(1, 2, "one is not two")
    def test_error(self):
        raise KeyError("gone")
    @unittest.skip("not today")
    def test_skipped(self):
        pass
    def test_parts(self):
        for number in range(3):
            with self.subTest(number):
                self.assertEqual(number, 1)

class Ends(unittest.TestCase):
    alone = True
    def test_ends(self):
        os._exit(3)

class Broken(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        raise OSError("no room")
    def test_never(self):
        pass
"""


class Elsewhere(unittest.TestCase):
    def test_everything_is_told(self):
        """Passed, failed, broken, skipped; a process that ends costs its class, and is no success."""
        home = self.enterContext(tempfile.TemporaryDirectory())
        (Path(home) / "odd_ones.py").write_text(ODD)
        self.enterContext(mock.patch.dict(os.environ, {"PYTHONPATH": home}))
        self.enterContext(mock.patch.object(sys, "path", [home, *sys.path]))
        result = unittest.TestResult()
        suite = SideBySide([unittest.defaultTestLoader.loadTestsFromName("odd_ones")])
        self.assertEqual(suite.together, ["odd_ones.Broken", "odd_ones.Odd"])
        self.assertEqual(suite.alone, ["odd_ones.Ends"])
        said = self.enterContext(contextlib.redirect_stderr(io.StringIO()))
        self.enterContext(mock.patch.dict(os.environ, {"DOTLEDGER_TESTS_SLOWEST": "2"}))
        suite.run(result)
        slowest = re.findall(r"[0-9.]+ s  odd_ones\.(Odd|Ends|Broken)", said.getvalue())
        self.assertEqual(len(slowest), 2)
        failed = {str(test): text for test, text in result.failures}
        broken = {str(test): text for test, text in result.errors}
        self.assertIn("one is not two", failed["test_wrong (odd_ones.Odd.test_wrong)"])
        self.assertEqual(sum("test_parts" in name for name in failed), 2)
        self.assertEqual(sum("gone" in text or "no room" in text for text in broken.values()), 2)
        self.assertIn("the process that ran this ended", broken["odd_ones.Ends"])
        self.assertEqual([reason for _, reason in result.skipped], ["not today"])
        self.assertFalse(result.wasSuccessful())


class Folders(unittest.TestCase):
    def test_a_folder_runs_its_tests(self):
        """Every folder with tests gives them when it is named; none says OK to nothing."""
        here = Path(__file__).parent
        folders = {path.parent for path in here.rglob("test_*.py")} - {here}
        self.assertGreater(len(folders), 20)
        for folder in folders:
            name = ".".join(("tests", *folder.relative_to(here).parts))
            with self.subTest(name):
                found = unittest.defaultTestLoader.loadTestsFromName(name)
                self.assertGreater(found.countTestCases(), 0)
