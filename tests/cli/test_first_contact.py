"""From a key and one answer to a description: pipes, questions, pictures of both readings, one call."""

import json
import os
import re
import tempfile
import threading
import unittest
from base64 import b64encode
from pathlib import Path
from unittest import mock
from urllib.request import Request, urlopen

from PIL import Image

from dotledger.standins.demo_scenes import RECIPES, draw_scene, write_scenes
from dotledger.standins.evening_demo import description_text, running
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
        # As a shell does it: the writing end is open before the command begins.
        reading, writing = os.pipe()
        self.addCleanup(os.close, reading)
        raw = json.dumps({"things": things()})

        def write():
            with os.fdopen(writing, "w") as pipe:
                pipe.write(raw)

        writer = threading.Thread(target=write)
        writer.start()
        status, out, err = called("draft", f"/dev/fd/{reading}")
        writer.join()
        self.assertEqual(status, 0, err)
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

    def test_lines_to_edit(self):
        """The three lines that no answer tells, with what stands there and why; numbers are right."""
        Path("a.json").write_text('{"tags": [{"tag": "lantern", "score": 0.5}]}')
        Path("line").write_text("curl https://eyes.example/look -H 'X-Key: s3' -F image=@a.jpg")
        for words, told in (
            (("a.json",), ("edit these", "where the service is: a blank", "a guess; with name", "need image_field")),
            (("a.json", "--curl", "line"), ("look at these", "from the request", "as header X-Key", "in the field image")),
            (("--curl", "line"), ("look at these", "from the request", "as header X-Key", "in the field image")),
        ):  # fmt: skip
            with self.subTest(words):
                status, _, err = called("draft", *words, "--out", "m.toml", "--replace")
                self.assertEqual(status, 0, err)
                for sign in told:
                    self.assertIn(sign, err)
                lines = Path("m.toml").read_text().splitlines()
                for number, shown in re.findall(r"^ +(\d+)  (\S+ = \S+)", err, re.MULTILINE):
                    self.assertTrue(lines[int(number) - 1].startswith(shown), shown)
        status, _, err = called("draft", "--starter")
        self.assertEqual((status, err.count("  ") > 3, "edit these lines:" in err), (0, True, True))

    def test_three_commands(self):
        """With a line for curl that works and one answer: draft, send, and the measures are right."""
        up = self.enterContext(running("marl"))
        key = up.service.key.reveal() if hasattr(up.service.key, "reveal") else up.service.key
        here = f"http://127.0.0.1:{up.port}"
        form = b"grant_type=client_credentials&scope=look"
        asked = Request(
            f"{here}/token", form, {"Authorization": f"Basic {b64encode(key.encode()).decode()}"}
        )
        with urlopen(asked) as reply:
            token = json.load(reply)["access_token"]
        self.enterContext(mock.patch.dict(os.environ, {"MINE_KEY": token}))
        write_scenes(Path())
        url = f"{here}/valley/look?model=evening-2&parts=tags,things,faces"
        bearer = {"Authorization": f"Bearer {token}", "Content-Type": "image/jpeg"}
        with urlopen(Request(url, Path("images/crowd-01.jpg").read_bytes(), bearer)) as reply:
            Path("answer.json").write_bytes(reply.read())
        Path("line.txt").write_text(
            f"curl '{url}' -H 'Authorization: Bearer {token}' --data-binary @images/crowd-01.jpg"
        )
        for line, well in (
            ("draft answer.json --image images/crowd-01.jpg --curl line.txt --out mine.toml", 0),
            ("send images --service mine.toml", 3),  # one image is damaged
            ("measure --annotations annotations.csv --threshold 0.5 --json", 0),
        ):
            status, out, err = called(*line.split())
            self.assertEqual(status, well, err)
        kinds = json.loads(out)["kinds"]
        for kind in ("label", "object", "face"):
            self.assertGreater(kinds[kind]["pooled"]["recall"], 0.9, kind)

    def test_nothing_left_behind(self):
        """A description that lacks a setting is refused before a ledger is made."""
        Path("p.jpg").write_bytes(draw_scene(RECIPES[2]).data)
        text = description_text("flint").replace("/v1/view", "/{nowhere}/view")
        Path("f.toml").write_text(text)
        with mock.patch.dict(os.environ, {"FLINT_KEY": "flint-key-123"}):
            status, _, err = called("send", "p.jpg", "--service", "f.toml", "--ledger", "l.ledger")
        self.assertEqual(status, 2)
        self.assertIn("the setting 'nowhere' has no value", err)
        self.assertEqual(sorted(os.listdir()), ["f.toml", "p.jpg"])

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
