"""Every example runs as it stands."""

import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

EXAMPLES = Path(__file__).parent.parent / "examples"


class Examples(unittest.TestCase):
    def test_first_steps(self):
        """The first steps send, measure and draw."""
        with tempfile.TemporaryDirectory() as home:
            done = subprocess.run(
                [sys.executable, EXAMPLES / "first_steps.py", home],
                capture_output=True,
                text=True,
                check=False,
            )
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertIn("Faces: 19 of 42 missed, precision 1.00", done.stdout)
            self.assertTrue((Path(home) / "pictures" / "contact-sheet.png").exists())
