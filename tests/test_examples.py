"""Every example runs as it stands."""

import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

EXAMPLES = Path(__file__).parent.parent / "examples"


class Examples(unittest.TestCase):
    def run_example(self, name):
        """Run one example in a folder of its own."""
        home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        done = subprocess.run(
            [sys.executable, EXAMPLES / name, home], capture_output=True, text=True, check=False
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        return done.stdout, home

    def test_first_steps(self):
        """The first steps send, measure and draw."""
        text, home = self.run_example("first_steps.py")
        self.assertIn("Faces: 19 of 42 missed, precision 1.00", text)
        self.assertTrue((home / "pictures" / "contact-sheet.png").exists())

    def test_why_wrong(self):
        """The second looks into what is wrong and missed."""
        text, _ = self.run_example("why_wrong.py")
        self.assertRegex(text, r"Objects: precision 0\.\d\d, between")
        self.assertIn("missed: one box over several", text)
        self.assertIn("Confidences mapped: calibration error", text)
