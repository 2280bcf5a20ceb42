"""The README's blocks run as printed, on the demo's scenes and a simulated service."""

import contextlib
import os
import re
import shlex
import tempfile
import unittest
from pathlib import Path
from unittest import mock

import dotledger
from dotledger.standins.demo_scenes import write_scenes
from dotledger.standins.evening_demo import description_text, running
from tests.cli.test_messages import called

README = (Path(__file__).parent.parent / "README.md").read_text(encoding="utf-8")


ACTING = (Path(__file__).parent.parent / "docs" / "acting.md").read_text(encoding="utf-8")
LOOKING = (Path(__file__).parent.parent / "docs" / "looking.md").read_text(encoding="utf-8")
CHOOSING = (Path(__file__).parent.parent / "docs" / "choosing.md").read_text(encoding="utf-8")


def block(language, holding, text=README):
    """Return the block of a language that holds some text."""
    blocks = re.findall(rf"```{language}\n(.*?)```", text, re.DOTALL)
    return next(one for one in blocks if holding in one)


class AtHome(unittest.TestCase):
    """In a folder with photos, truth.csv, images.csv and the description of a running service."""

    def setUp(self):
        home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.enterContext(contextlib.chdir(home))
        up = self.enterContext(running("flint"))
        self.enterContext(
            mock.patch.dict(
                os.environ,
                {
                    "FLINT_KEY": up.service.key.reveal()
                    if hasattr(up.service.key, "reveal")
                    else up.service.key
                },
            )
        )
        write_scenes(Path())
        Path("images").rename("photos")
        Path("annotations.csv").rename("truth.csv")
        text = re.sub(r'port = "\d+"', f'port = "{up.port}"', description_text("flint"))
        Path("myservice.toml").write_text(text)
        Path("photos/glass-01.jpg").rename("photo.jpg")


class Readme(AtHome):
    def test_python_first(self):
        """The lines of Python run as printed."""
        names: dict[str, object] = {}
        exec(block("python", "dotledger.send"), names)
        self.assertGreater(names["result"].kinds["object"].pooled.recall, 0.8)

    def test_the_five_steps(self):
        """From a line for curl to measures, with nothing but the answer to what one call leaves open."""
        key = os.environ["FLINT_KEY"]
        self.enterContext(mock.patch.dict(os.environ, {"MINE_KEY": key}))
        port = dotledger.read_description("myservice.toml").connect.settings["port"]
        Path("myservice.toml").unlink()
        Path("photo.jpg").write_bytes(Path("photos/walk-03.jpg").read_bytes())  # it holds things
        Path("request.txt").write_text(
            f"curl http://127.0.0.1:{port}/v1/view -H 'X-Flint-Key: {key}'"
            " -F picture=@photo.jpg -F want=labels,faces,safety\n"
        )
        for line in block("sh", "dotledger draft").splitlines():
            words = shlex.split(line.partition("  #")[0])[1:]
            status, _, err = called(*words)
            self.assertIn(status, (0, 3), f"{line}\n{err}")  # 3: the damaged and the tiny image
            self.assertNotIn(key, Path("myservice.toml").read_text())
            self.answer(Path("myservice.toml"))
        found = dotledger.measure("found.csv", "truth.csv", threshold=0.5)
        self.assertGreater(found.kinds["object"].pooled.recall, 0.7)

    def answer(self, file):
        """Write the right answer where the draft asks for one, as somebody who looks at a picture."""
        lines = file.read_text().splitlines()
        right = [line for line in lines if line.startswith("#   ") and '["y0", "x0"' in line]
        if right:
            lines = [
                f"box = {right[0].strip('# ')}" if line == 'box = "not answered"' else line
                for line in lines
            ]
            file.write_text("\n".join(lines))


class Choosing(AtHome):
    def test_python_of_the_guide(self):
        """The guide's lines run as printed; its gates file is one."""
        dotledger.send("photos", "myservice.toml", ledger="photos.ledger")
        dotledger.write_table(dotledger.findings_of("photos.ledger"), "found.csv")
        names: dict[str, object] = {}
        exec(block("python", "choose_thresholds", CHOOSING), names)
        self.assertLessEqual(names["chosen"].outcome.recall, names["chosen"].optimistic.recall)
        Path("gates.toml").write_text(block("toml", "gates_file", CHOOSING))
        Path("expected.csv").write_text("image,kind,at_most\nempty-01.jpg,object,0\n")
        verdicts = dotledger.check_gates(
            "found.csv", "truth.csv", "gates.toml", before={"spring": "found.csv"}
        )
        self.assertEqual(len(verdicts.judged), 1 + 15 + 1 + 1)
        exec(block("python", "GateAssertions", CHOOSING), names)
        Path("rules.toml").write_text(block("toml", "rules_file", ACTING))
        exec(block("python", "dotledger.decide", ACTING), names)
        self.assertGreater(names["decisions"].counts["block"], 0)
        exec(block("python", "dotledger.cover", ACTING), names)
        self.assertEqual(names["done"].covered, 2)
        exec(block("python", "dotledger.plot", LOOKING), names)
        self.assertGreater(Path("curve.pdf").stat().st_size, 5000)
        exec(block("python", "open_service", ACTING), names)
        self.assertFalse(names["seen"].paid, "the ledger knew it")
