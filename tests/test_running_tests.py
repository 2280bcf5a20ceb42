"""Tests that run in other processes: what fails there fails here, and nothing is lost."""

import os
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

ODD = """
import os, unittest

class Odd(unittest.TestCase):
    def test_right(self):
        print("not an answer")
    def test_wrong(self):
        self.assertEqual(1, 2, "one is not two")
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
        """Passed, failed, broken, skipped, not loaded; a process that ends is an error of its class."""
        with tempfile.TemporaryDirectory() as home:
            tests = Path(home, "tests")
            tests.mkdir()
            (tests / "__init__.py").write_text(Path(__file__).with_name("__init__.py").read_text())
            (tests / "test_odd.py").write_text(ODD)
            (tests / "test_bad.py").write_text("import nowhere")
            env = {name: value for name, value in os.environ.items() if name != "PYTHONPATH"}
            words = [sys.executable, "-m", "unittest"]
            ran = subprocess.run(
                words, cwd=home, env=env, capture_output=True, text=True, check=False
            )
        self.assertEqual(ran.returncode, 1)
        self.assertIn("FAILED (failures=3, errors=3, skipped=1)", ran.stderr)
        for sign in (
            "one is not two",
            "no room",
            "No module named 'nowhere'",
            "tests.test_odd.Ends",
        ):
            self.assertIn(sign, ran.stderr)
