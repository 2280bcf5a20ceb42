"""From a key and one answer to a description: pipes, questions, pictures of both readings, one call."""

import json
import os
import tempfile
import threading
import unittest
from pathlib import Path
from unittest import mock

from PIL import Image

from dotledger.standins.demo_scenes import RECIPES, draw_scene
from dotledger.standins.evening_demo import running
from tests.cli.test_messages import called
from tests.services.test_weighing_readings import things

UNCLEAR = {
    "things": [
        {"label": "crate", "score": 0.4, "area": [0.2, 0.3, 0.5, 0.6]},
        {"label": "rope", "score": 0.7, "area": [0.4, 0.1, 0.8, 0.5]},
    ]
}


class FirstContact(unittest.TestCase):
    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        old = Path.cwd()
        self.addCleanup(os.chdir, old)
        os.chdir(self.home)

    def test_a_pipe(self):
        """What a shell puts in place of a command's output is a sample like any other."""
        os.mkfifo("pipe")
        raw = json.dumps({"things": things()})
        writer = threading.Thread(target=lambda: Path("pipe").write_text(raw))
        writer.start()
        status, out, _ = called("draft", "pipe")
        writer.join()
        self.assertEqual(status, 0)
        self.assertIn('each = "things[]"', out)

    def test_both_readings_drawn(self):
        """What the samples do not tell is asked in the file, and both readings are drawn."""
        Path("a.json").write_text(json.dumps(UNCLEAR))
        Image.new("RGB", (600, 400), (60, 60, 90)).save("a.png")
        status, _, err = called("draft", "a.json", "--image", "a.png", "--out", "mine.toml")
        self.assertEqual(status, 0, err)
        self.assertIn("side by side: mine-question-1.png", err)
        with Image.open("mine-question-1.png") as drawn:
            first, second = (drawn.crop((at, 0, at + 600, 400)) for at in (0, drawn.width - 600))
            self.assertNotEqual(first.tobytes(), second.tobytes())
        status, _, err = called("try", "--service", "mine.toml")
        self.assertEqual(status, 2)
        self.assertIn("read.0.box: a question of the draft is not answered yet", err)

    def test_one_call(self):
        """A line for curl is enough for one call, and its answer for the rules; never twice."""
        Path("photo.jpg").write_bytes(draw_scene(RECIPES[2]).data)
        up = self.enterContext(running("flint"))
        key = up.service.key.reveal() if hasattr(up.service.key, "reveal") else up.service.key
        self.enterContext(mock.patch.dict(os.environ, {"MINE_KEY": key}))
        Path("line").write_text(
            f"curl http://127.0.0.1:{up.port}/v1/view -H 'X-Flint-Key: {key}'"
            " -F picture=@photo.jpg -F want=labels"
        )
        status, _, err = called("draft", "--curl", "line", "--out", "mine.toml")
        self.assertEqual(status, 0, err)
        self.assertIn("dotledger try IMAGE --service mine.toml --draft", err)
        status, out, _ = called("try", "photo.jpg", "--service", "mine.toml")
        self.assertIn("Next step: draft the rules from this answer", out)
        self.assertNotIn("[[read]]", Path("mine.toml").read_text())
        for wrong in (("--draft", "--dry"), ()):
            status, _, err = called("send", "photo.jpg", "--service", "mine.toml", *wrong)
            self.assertEqual(status, 2, err)
        bare = Path("mine.toml").read_text()
        Path("mine.toml").write_text(
            f"{bare}\n[[call]]\nname = 'b'\nkinds = ['face']\npath = '/b'\nbody = 'raw'\n"
        )
        status, _, err = called("try", "photo.jpg", "--service", "mine.toml", "--draft")
        self.assertEqual(status, 2, err)
        self.assertIn("a description of one call", err)
        self.assertNotIn("[[read]]", Path("mine.toml").read_text())
        Path("mine.toml").write_text(bare)
        status, _, err = called("try", "photo.jpg", "--service", "mine.toml", "--draft")
        self.assertEqual(status, 0, err)
        text = Path("mine.toml").read_text()
        self.assertIn('kinds = ["label", "object"]', text)
        self.assertEqual(text.count("[[read]]"), 2)
        Path("mine.toml").write_text(text.replace('box = "not answered"', "box = { at = 'place', order = ['y0', 'x0', 'y1', 'x1'], unit = 'fraction' }"))  # fmt: skip
        status, _, err = called("try", "photo.jpg", "--service", "mine.toml", "--draft")
        self.assertEqual(status, 2)
        self.assertIn("has [[read]] rules already", err)
