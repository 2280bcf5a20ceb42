"""try, forecast, batches, usage, simulate: as a user meets them."""

import json
import os
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from dotledger import send
from dotledger.standins.demo_scenes import RECIPES, draw_scene
from dotledger.standins.evening_demo import description_of, pointed_text, running
from dotledger.standins.service_misbehaviour import parse_trouble
from tests.cli.test_messages import called
from tests.forked import dotledger
from tests.sending.helpers import Handler, served


class Commands(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.home = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cls.up = cls.enterClassContext(running("chalk"))
        (cls.home / "chalk.toml").write_text(pointed_text(cls.up))
        cls.images = cls.home / "images"
        cls.images.mkdir()
        for recipe in (*RECIPES[:6], RECIPES[-1]):
            (cls.images / recipe.name).write_bytes(draw_scene(recipe).data)
        (cls.images / "twin.jpg").write_bytes((cls.images / "walk-01.jpg").read_bytes())
        cls.ledger = cls.home / "l.ledger"
        send(
            [cls.images],
            description_of(cls.up),
            ledger=cls.ledger,
            key=cls.up.service.key,
            at_most=1,
        )
        cls.key = {"CHALK_KEY": cls.up.service.key}

    def run_on(self, command, *words, env=None):
        return dotledger(command, *words, cwd=self.home, env=env)

    def test_an_address(self):
        """An address that is tried goes out as it is; what was sent by it is found by it."""
        data = (self.images / "walk-01.jpg").read_bytes()

        class Both(Handler):
            def asked(self):
                self.seen.append((self.command, self.body()))
                self.reply({"tags": [{"n": "dusk"}]} if self.command == "POST" else data)

        port, own = served(self, Both)
        (self.home / "tern.toml").write_text(
            f'service = "tern"\n[connect]\naddress = "http://127.0.0.1:{port}"\n[[call]]\nname = "c"\n'
            'kinds = ["label"]\npath = "/look"\nbody = "address"\nimage_field = "url"\n'
            '[[read]]\nkind = "label"\neach = "tags[]"\nlabel = "n"\n'
        )
        address = f"http://127.0.0.1:{port}/a/walk.jpg?token=s3cret-and-more"
        done = self.run_on("try", address, "--service", "tern.toml")
        self.assertEqual(done.returncode, 0, done.stderr + done.stdout)
        self.assertEqual(json.loads(own.seen[-1][1]), {"url": address})
        done = self.run_on("try", "images/walk-01.jpg", "--service", "tern.toml")
        self.assertIn("tern fetches images itself, and this one has no address", done.stderr)
        words = ("--service", "tern.toml", "--ledger", "tern.ledger")
        self.assertEqual(self.run_on("send", address, *words).returncode, 0)
        shown = self.run_on("show", address, "--ledger", "tern.ledger")
        self.assertRegex(shown.stdout, "label +dusk")
        self.assertNotIn("s3cret", shown.stdout + shown.stderr)

    def test_forecast(self):
        """What would be sent, what is answered, what would be refused, calls and money; no key."""
        done = self.run_on(
            "forecast", "images", "--service", "chalk.toml", "--ledger", "l.ledger", "--json"
        )
        got = json.loads(done.stdout)
        self.assertEqual(
            [got[k] for k in ("images", "to_send", "answered", "repeated", "refused", "calls")],
            [8, 2, 4, 1, 1, 1],
        )
        self.assertEqual(
            (got["money"], got["used_this_month"], got["per_month"]), (0.004, 1, 50_000)
        )
        notes = self.home / "images" / "notes.csv"
        notes.touch()
        self.addCleanup(notes.unlink)
        done = self.run_on("forecast", "images", "--service", "chalk.toml")
        self.assertIn("passed over, not taken for images: .csv (1)", done.stderr)
        table = done.stdout
        for sign in (
            "would be refused",
            "shrunk to fit: 6 images",
            "tiny-01.png",
            "of 50,000",
            "2 calls",
        ):
            self.assertIn(sign, table)

    def test_forecast_beyond_the_quota(self):
        """What the month's quota leaves undone is said; of many missing files only the first are."""
        text = (self.home / "chalk.toml").read_text()
        tight = text.replace("per_month = 50_000", "per_month = 1")
        self.assertNotEqual(tight, text)
        (self.home / "tight.toml").write_text(tight)
        (self.home / "list.txt").write_text("\n".join(f"none-{n}.jpg" for n in range(30)))
        words = ("images", "@list.txt", "--service", "tight.toml", "--ledger", "none.ledger")
        done = self.run_on("forecast", *words)
        self.assertIn("The quota does not suffice: 1 call would wait.", done.stdout)
        lines = [line for line in done.stderr.splitlines() if "cannot be read" in line]
        self.assertEqual((len(lines), lines[-1]), (21, "cannot be read: 10 more"))

    def test_send_says_what_became_of_it(self):
        """Failures stand by reason with the command that sends them again; status 3 if not all went."""
        words = ("send", "images", "--service", "chalk.toml", "--ledger", "other.ledger")
        some = sorted(self.images.glob("walk-*.jpg"))
        limited = self.run_on("send", *some, *words[2:], "--at-most", "1", env=self.key)
        self.assertRegex(limited.stderr, "To go on: dotledger send .*walk-01.jpg")
        self.assertEqual(limited.returncode, 0, "it stopped where it was told to")
        wrong = self.run_on(*words, "--kinds", "face", env={"CHALK_KEY": "wrong"})
        self.assertIn("Stopped: the service forbids this (403)", wrong.stdout)
        self.assertEqual(wrong.returncode, 3)
        with running("chalk", parse_trouble("smallest=9999")) as strict:
            (self.home / "strict.toml").write_text(pointed_text(strict))
            key = {"CHALK_KEY": strict.service.key}
            failed = self.run_on(words[0], words[1], "--service", "strict.toml", env=key)
        self.assertRegex(
            failed.stdout, "failed, 7 images: .*smaller than 9999.*walk-01.jpg, .* and 2 more"
        )
        self.assertRegex(failed.stdout, "refused: tiny-01.png: ")
        self.assertNotIn("not read", failed.stderr, "the service itself said why")
        self.assertIn("strict.toml --again failed", failed.stderr)

    def test_what_was_not_checked(self):
        """A batch that is too large to be looked at as a whole says so; a small one does not."""
        words = ("send", str(self.images), "--service", str(self.home / "chalk.toml"), "--ledger")
        with mock.patch.dict(os.environ, self.key):
            _, out, _ = called(*words, str(self.home / "small.ledger"))
            self.assertNotIn("was not checked", out)
            with mock.patch("dotledger.cli.send.send_command._MOST_LOOKED_AT", 1):
                _, out, _ = called(*words, str(self.home / "large.ledger"))
        self.assertIn(
            "More than 1 images: whether the findings look wrong as a whole was not checked", out
        )

    def test_batches_and_usage(self):
        """A list of batches, one in detail, and calls and money by month."""
        listed = self.run_on("batches", "--ledger", "l.ledger").stdout
        self.assertIn("chalk", listed)
        detail = self.run_on("batches", 1, "--ledger", "l.ledger").stdout
        for sign in (
            "Stopped: the limit of 1 calls is reached",
            "median",
            "too small",
            "shrunk to 640",
        ):
            self.assertIn(sign, detail)
        got = json.loads(self.run_on("batches", 1, "--ledger", "l.ledger", "--json").stdout)
        self.assertEqual((got["calls"]["calls"], got["outcomes"]["label"]["pending"]), (1, 2))
        [month] = json.loads(
            self.run_on("batches", "--by", "month", "--ledger", "l.ledger", "--json").stdout
        )["months"]
        self.assertEqual((month["calls"], month["images"], month["left"]), (1, 4, 49_999))
        self.assertIn(
            "49,999", self.run_on("batches", "--by", "month", "--ledger", "l.ledger").stdout
        )
        self.assertIn(
            "does not hold batch 9", self.run_on("batches", 9, "--ledger", "l.ledger").stderr
        )

    def test_try(self):
        """One call is taken apart: key masked, answer raw, read next to it; nothing is written."""
        done = self.run_on("try", "--service", "chalk.toml", env=self.key)
        self.assertEqual(done.returncode, 0, done.stderr)
        for sign in (
            "found: env:CHALK_KEY",
            "key=•••",
            "status 200",
            '"canvas"',
            "Read as",
            "lantern",
        ):
            self.assertIn(sign, done.stdout)
        self.assertNotIn(self.up.service.key, done.stdout)
        as_json = json.loads(
            self.run_on("try", "--service", "chalk.toml", "--json", env=self.key).stdout
        )
        self.assertIn("lantern", [f["label"] for f in as_json["readings"][0]["found"]])
        self.assertEqual((as_json["status"], as_json["well"]), (200, True))
        dry = self.run_on("try", "--service", "chalk.toml", "--dry")
        self.assertIn("Would be sent", dry.stdout)
        self.assertNotIn("Answer", dry.stdout)

    def test_try_advises(self):
        """Each usual mistake gets its plain next step and exit status 2."""
        for words, env, sign in (
            ((), {}, "looked at env:CHALK_KEY"),
            ((), {"CHALK_KEY": "no"}, "another region or project"),
            (("--set", "port=1"), self.key, "nothing listens"),
            (("--set", "host=nohost.invalid"), self.key, "over plain http to another machine"),
        ):
            done = self.run_on(
                "try", "--service", "chalk.toml", *words, env={"CHALK_KEY": "", **env}
            )
            self.assertEqual(done.returncode, 2)
            self.assertRegex(done.stdout, sign)
        text = (self.home / "chalk.toml").read_text()
        meant = text.replace("[connect]", "[connect]\nplain_http = true", 1)
        (self.home / "meant.toml").write_text(meant)
        words = ("try", "--service", "meant.toml", "--set", "host=nohost.invalid")
        done = self.run_on(*words, env=self.key)
        self.assertRegex(done.stdout, "check the address|No such host")
        text = text.replace('path = "/seek"', 'path = "/sek"')
        (self.home / "wrong.toml").write_text(text)
        self.assertIn(
            "path and method", self.run_on("try", "--service", "wrong.toml", env=self.key).stdout
        )

    def test_simulate(self):
        """Services run for a while, each with a description pointed at it."""
        folder = self.home / "sim"
        done = self.run_on(
            "simulate", "flint", "--folder", folder, "--seconds", 0.2, "--trouble", "rate=5"
        )
        self.assertIn("export FLINT_KEY=", done.stdout)
        self.assertIn("port", (folder / "flint.toml").read_text())
        self.assertIn("Retry-After", self.run_on("simulate", "--trouble", "help").stdout)
        self.assertIn("allowed: rate, wait", self.run_on("simulate", "--trouble", "rates=5").stderr)
        self.assertIn("allowed: flint, marl, chalk", self.run_on("simulate", "flynt").stderr)
