"""Every example runs as it is."""

import base64
import socket
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import urllib3

from dotledger.standins.demo_scenes import RECIPES, draw_scene

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

    def test_named_walkers(self):
        """Who was named, how alike is alike enough, names on pictures, and pictures into folders by name."""
        text, home = self.run_example("named_walkers.py")
        self.assertIn("Right names 61 of 63; strangers named 29.", text)
        self.assertRegex(text, r"Threshold of similarity: 0\.\d+ or more\.")
        self.assertIn("30 pictures with names in named", text)
        words = ["sort", "named", "--ledger", "porch.ledger", "--by", "person", "--out", "by-name"]
        done = subprocess.run(
            [sys.executable, "-m", "dotledger", *words],
            cwd=home, capture_output=True, text=True, check=False,
        )  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("30 pictures go with their original images: 30 listed", done.stderr)
        folders = {path.name for path in (home / "by-name").iterdir()}
        self.assertLessEqual({"Old-Reed", "Sedge", "Łucja-Żółw", "葦の人", "nobody-named"}, folders)

    def test_after_the_walk(self):
        """A broken photo is saved, verdicts are posted once, a guest is forgotten to the last byte."""
        text, home = self.run_example("after_the_walk.py")
        self.assertIn("porch-cut.png: about 62% of its rows kept", text)
        self.assertIn("Taken by the desk: 30, left: 0.\nTaken by the desk: 0, left: 0.", text)
        self.assertIn("Old Reed was named in 19 pictures; rows of the table: 97, 26.", text)
        self.assertIn("Nothing is left where it was searched.", text)
        for name in ("porch.ledger", "found.jsonl"):
            self.assertNotIn(b"Old Reed", (home / name).read_bytes())

    def test_upload_check(self):
        """A real server and a real client: hazards are blocked, faces covered, rubbish held."""
        with socket.socket() as free:
            free.bind(("127.0.0.1", 0))
            port = free.getsockname()[1]
        words = ["-m", "uvicorn", "--app-dir", EXAMPLES, "upload_check:app", "--port", str(port), "--log-level", "warning"]  # fmt: skip
        server = subprocess.Popen([sys.executable, *words])
        self.addCleanup(server.wait)
        self.addCleanup(server.terminate)
        address, pool = f"http://127.0.0.1:{port}/upload", urllib3.PoolManager()
        retry = urllib3.Retry(total=None, connect=240, backoff_factor=0.1, backoff_max=0.5)

        def upload(data):
            return pool.request("POST", address, body=data, retries=retry).json()

        scenes = {recipe.name: draw_scene(recipe).data for recipe in RECIPES}
        blocked = upload(scenes["flame-01.jpg"])
        self.assertEqual(blocked["verdict"], "block")
        self.assertIn("open flame", blocked["reasons"][0])
        passed = upload(scenes["walk-02.jpg"])
        self.assertEqual(passed["verdict"], "pass")
        self.assertNotEqual(base64.b64decode(passed["covered"]), scenes["walk-02.jpg"])
        same = upload(scenes["fair-03.png"])
        self.assertEqual(base64.b64decode(same["covered"]), scenes["fair-03.png"])
        self.assertEqual(
            upload(b"no image"),
            {"verdict": "hold", "reasons": upload(b"no image")["reasons"], "covered": None},
        )
