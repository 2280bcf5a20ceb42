"""``show`` and ``search``: one image's story, and images across batches, on the demo."""

import json
import re
import tempfile
import unittest
from pathlib import Path

from PIL import Image

from dotledger import findings_of
from dotledger.standins.demo_scenes import RECIPES, draw_scene
from dotledger.standins.evening_demo import pointed_text, running
from tests.forked import dotledger
from tests.walk import walk_in


class OnTheWalk(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.walk, _ = walk_in(folder.name)

    def run_on(self, *words, status=0):
        done = dotledger(*words, "--ledger", "walk.ledger", cwd=self.walk)
        self.assertEqual(done.returncode, status, done.stderr)
        return done

    def test_columns(self):
        """Attributes as columns: on the screen, in a file that is measured as before, in JSON."""
        words = (
            "findings",
            "--service",
            "marl",
            "--kinds",
            "face",
            "--columns",
            "eye distance, smiling",
        )
        out = self.run_on(*words).stdout
        self.assertRegex(out, r"confidence +eye distance +smiling +x0")
        self.assertRegex(out, r"face +0\.99 +30 +no +\d")
        told = json.loads(self.run_on(*words, "--json").stdout)
        cells = [one["columns"] for one in told["findings"]]
        self.assertIn({"eye distance": 30.0, "smiling": False}, cells)
        self.assertIn({"eye distance": None, "smiling": None}, cells, "of an image without a face")
        self.run_on(*words, "--out", "faces.csv")
        head, first, *_ = (self.walk / "faces.csv").read_text().splitlines()
        self.assertTrue(head.endswith("y1,eye distance,smiling") and first.endswith("5.6,false"))
        both = [
            json.loads(
                self.run_on(
                    "measure", *where, "--annotations", "annotations.csv", "--draws", 0, "--json"
                ).stdout
            )
            for where in (("--findings", "faces.csv"), ("--service", "marl"))
        ]
        self.assertEqual(*(one["kinds"]["face"]["pooled"]["recall"] for one in both))
        self.assertEqual(*(one["about"]["runs"][0]["settings"] for one in both))
        self.assertIn("--details keeps them", self.run_on(*words, "--out", "b.csv").stderr)
        done = self.run_on(*words, "--details", "--out", "d.csv")
        self.assertNotIn("left out", done.stderr)
        self.assertIn('""left eye""', (self.walk / "d.csv").read_text())
        wrong = self.run_on(*words[:-1], "smilin", status=2)
        self.assertIn("did you mean 'smiling'", wrong.stderr)
        frame = findings_of(self.walk / "walk.ledger", service="marl", kinds=["face"])
        columns = frame.frame(details="columns").columns
        self.assertIn("eye distance", columns)

    def test_where(self):
        """Findings of which something is true; what is measured afterwards says so."""
        words = ("findings", "--service", "marl", "--kinds", "face", "--where")
        done = self.run_on(*words, "smiling and eye_distance > 20", "--out", "smiling.csv")
        self.assertIn("left out: they do not satisfy", done.stderr)
        out = self.run_on(*words, "smiling").stdout
        self.assertRegex(out, r"answers have none of these left\.")
        self.assertNotIn("held nothing", out)
        self.assertIn("held nothing", self.run_on(*words[:-1]).stdout)
        cut = self.run_on(*words[:-1], "--threshold", 0.9).stdout
        self.assertIn("have none of these left", cut)
        rows = (self.walk / "smiling.csv").read_text().splitlines()
        self.assertGreater(len(rows), 16, "a row stays for every image that was answered")
        told = self.run_on(
            "measure", "--findings", "smiling.csv", "--annotations", "annotations.csv", "--draws", 0
        )
        self.assertIn(
            "reduced to those of which it is true: smiling and eye_distance > 20", told.stdout
        )
        for wrong, said in (("smilin", "Did you mean smiling?"), ("smiling >", "cannot be parsed")):
            self.assertIn(said, self.run_on(*words, wrong, status=2).stderr)

    def test_what_was_asked(self):
        """Settings and model stand in every output about the batch; the request shows no key."""
        out = self.run_on("show", "walk-02.jpg", "--service", "marl", "--request", "--raw").stdout
        self.assertIn("settings   region = valley, model = evening-2", out)
        self.assertRegex(
            out, r"POST http://127\S+/valley/look\?model=evening-2&parts=tags%2Cthings"
        )
        self.assertIn("Authorization: Bearer •••", out)
        self.assertIn('\n  "tags": {\n', out)
        told = json.loads(self.run_on("show", "walk-02.jpg", "--service", "marl", "--json").stdout)
        self.assertEqual(told["settings"], {"region": "valley", "model": "evening-2"})
        self.assertNotIn("request", told)
        out = self.run_on("batches", 2).stdout
        self.assertIn("face, unsafe; region = valley, model = evening-2.", out)
        self.assertIn("Call look: POST /look, for label, object, face, unsafe.", out)
        told = json.loads(self.run_on("batches", 2, "--json").stdout)
        self.assertEqual(told["asked"][0]["request"], "POST /look")
        words = ("marl", "flint", "--annotations", "annotations.csv")
        told = json.loads(self.run_on("compare", *words, "--draws", 0, "--json").stdout)
        runs = [run["settings"] for run in told["about"]["runs"]]
        self.assertEqual(runs, [{"region": "valley", "model": "evening-2"}, {}])
        self.run_on("report", "--service", "marl", "--out", "asked.html")
        page = (self.walk / "asked.html").read_text(encoding="utf-8")
        self.assertIn("region = valley, model = evening-2", page)
        self.run_on("report", "--service", "marl", "--private", "--out", "asked2.html")
        self.assertNotIn("evening-2", (self.walk / "asked2.html").read_text(encoding="utf-8"))

    def test_show(self):
        """What was sent, the call, what was found; the moon taken for a lantern; the small faces."""
        words = ("show", "crowd-03.jpg", "--service", "marl", "--annotations", "annotations.csv", "--rules", "rules.toml", "--threshold", 0.5)  # fmt: skip
        out = self.run_on(*words, "--picture", "s.png", "--raw").stdout
        self.assertRegex(out, r"call look +\d{4}-\d\d-\d\d .* UTC, [\d.]+ s, status 200")
        self.assertRegex(out, r"object +lantern +0\.99 .* wrong +nothing there")
        self.assertRegex(out, r"verdict +hold")
        self.assertIn("as it was sent", out)
        self.assertIn("The raw answer of look:", out)
        with Image.open(self.walk / "s.png") as picture:
            self.assertGreater(picture.width, 800, "the image, and a margin that says why")
        story = json.loads(
            self.run_on(
                "show",
                "crowd-01.jpg",
                "--service",
                "flint",
                "--annotations",
                "annotations.csv",
                "--json",
            ).stdout
        )
        self.assertEqual(sum(one["kind"] == "face" for one in story["missed"]), 8)
        self.assertEqual(story["size"], [800, 560])
        refused = json.loads(
            self.run_on("show", "tiny-01.png", "--service", "marl", "--json").stdout
        )
        self.assertEqual(refused["outcomes"]["face"]["outcome"], "refused")
        self.assertIn("too small", refused["outcomes"]["face"]["reason"])
        late = self.run_on("show", "walk-06.jpg", "--service", "flint").stdout
        self.assertIn("late/walk-06.jpg", late)
        self.assertIn(
            "walk-02.jpg", self.run_on("show", "walk-2.jpg", "--service", "flint", status=2).stderr
        )

    def test_several_services(self):
        """Where a ledger knows several services, no command answers for the newest in silence."""
        for words in (
            ["show", "crowd-01.jpg"],
            ["findings"],
            ["draw", "images", "--out", "d"],
            ["screen", "rules.toml"],
            ["sort", "images", "--by", "outcome", "--out", "s"],
            ["measure", "--annotations", "annotations.csv"],
        ):
            with self.subTest(words=words):
                said = self.run_on(*words, status=2).stderr
                self.assertIn(
                    "the ledger holds batches of several services; allowed: flint, marl. Name the service",
                    said,
                )

    def test_whose_numbers(self):
        """Whatever measures, cuts, draws, gates or screens says first whose numbers these are, in JSON too."""
        (self.walk / "gates.toml").write_text(
            'gates_file = 1\n[[gate]]\nmeasure = "recall"\nof_each = "kind"\nat_least = 0.0\n'
        )
        truth = ["--annotations", "annotations.csv"]
        images = "images/moon-01.jpg"
        for words, status in (
            (["measure", *truth, "--draws", "0"], 0),
            (["choose", *truth, "--kinds", "face"], 0),
            (["reliability", *truth], 0),
            (["choose", *truth, "--kinds", "face", "--aim", "recall >= 0.1"], 0),
            (["screen", "rules.toml"], 0),
            (["gate", "gates.toml", *truth], 0),
            (["findings", "--most", "1"], 0),
            (["draw", images, "--out", "whose-drawn"], 0),
            (["sort", images, "--out", "whose-sorted"], 0),
            (["cover", images, "--out", "whose-covered"], 0),
        ):
            out = ["--replace"] * (words[0] in ("draw", "cover"))
            with self.subTest(words=words):
                shown = self.run_on(*words, "--service", "marl", *out, status=status).stdout
                self.assertRegex(
                    shown, r"^Findings of marl, batch 2 \(sent \d{4}-\d\d-\d\d; region"
                )
                told = self.run_on(*words, "--service", "marl", *out, "--json", status=status)
                about = json.loads(told.stdout)["about"]
                [run] = about["runs"]
                self.assertEqual((run["service"], run["batch"], run["file"]), ("marl", 2, None))
                self.assertEqual(
                    about["annotations"], "annotations.csv" if truth[1] in words else None
                )
        compared = self.run_on(
            "compare", "a=flint", "b=marl", *truth, "--threshold", "0.5", "--draws", "50"
        )
        self.assertRegex(
            compared.stdout,
            r"^a: findings of flint, batch 1 .*; threshold 0.5.\nb: findings of marl, batch 2 .*; threshold 0.5; annotations of",
        )
        drifted = json.loads(self.run_on("drift", "flint", "marl", "--json").stdout)["about"][
            "runs"
        ]
        self.assertEqual(
            [(run["service"], run["batch"]) for run in drifted], [("flint", 1), ("marl", 2)]
        )
        file = dotledger(
            "choose", "--findings", "marl.csv", *truth, "--kinds", "face", cwd=self.walk
        )
        self.assertRegex(
            file.stdout, r"^Findings of marl, batch 2 \(sent .*\), from marl.csv; annotations of"
        )

    def test_search_where(self):
        """By a condition on what was found; a field that is none, and outcomes, are refused."""
        asked = ("search", "--kinds", "face", "--service", "marl", "--json")
        everything = json.loads(self.run_on(*asked).stdout)["hits"]
        found = json.loads(self.run_on(*asked, "--where", "confidence >= 0.9").stdout)["hits"]
        wanted = [o for o in everything if o["confidence"] is not None and o["confidence"] >= 0.9]
        self.assertTrue(0 < len(wanted) < len(everything))
        self.assertEqual(found, wanted)
        for more, message in (
            (("--where", "shoe > 3"), "no finding has 'shoe'"),
            (("--where", "confidence >"), "cannot be parsed"),
            (("--where", "confidence > 0", "--outcome", "refused"), "not outcomes"),
        ):
            self.assertIn(message, self.run_on("search", *more, status=2).stderr)

    def test_search(self):
        """By label and confidence, by outcome, by verdict; the nearest label where nothing fits."""
        found = json.loads(
            self.run_on(
                "search", "--label", "lantern", "--kinds", "object", "--least", 0.9, "--json"
            ).stdout
        )["hits"]
        by_hand = {}
        for service in ("flint", "marl"):
            rows = (self.walk / f"{service}.csv").read_text().splitlines()[1:]
            cells = [row.split(",") for row in rows]
            by_hand[service] = sum(
                c[1:3] == ["object", "lantern"] and float(c[3]) >= 0.9 for c in cells
            )
        for service, count in by_hand.items():
            self.assertEqual(sum(one["service"] == service for one in found), count)
        self.assertEqual(
            [one["batch"] for one in found], sorted((o["batch"] for o in found), reverse=True)
        )
        refused = json.loads(
            self.run_on("search", "--outcome", "refused", "--service", "marl", "--json").stdout
        )["hits"]
        self.assertEqual({one["image"] for one in refused}, {"damaged-01.jpg", "tiny-01.png"})
        blocked = json.loads(
            self.run_on(
                "search",
                "--verdict",
                "block",
                "--rules",
                "rules.toml",
                "--service",
                "marl",
                "--json",
            ).stdout
        )["hits"]
        self.assertEqual(
            {one["image"] for one in blocked},
            {"flame-01.jpg", "flame-02.jpg", "glass-01.jpg", "glass-02.jpg"},
        )
        near = self.run_on("search", "--label", "lantren")
        self.assertEqual(near.stdout, "Nothing fits.\n")
        self.assertIn("did you mean 'lantern'?", near.stderr)
        self.assertEqual(
            json.loads(self.run_on("search", "--until", "2001-01-01", "--json").stdout)["hits"], []
        )
        self.assertEqual(
            self.run_on("search", "--text", "^umb", "--rows", 1).stdout.count("umbrella"), 1
        )
        self.run_on("search", "--label", "moon", "--sheet", "moons.png")
        self.assertGreater((self.walk / "moons.png").stat().st_size, 10_000)
        for wrong, word in ((("--kinds", "fase"), "face"), (("--least", "90"), "0 to 1"), (("--since", "May"), "2026-05-31"), (("--text", "("), "regular"), (("--verdict", "block"), "--rules")):  # fmt: skip
            self.assertIn(word, self.run_on("search", *wrong, status=2).stderr)


class TriedOnAPage(unittest.TestCase):
    def test_page(self):
        """Image, boxes, what was read, the answer and the masked request; nothing from elsewhere."""
        home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        recipe = next(r for r in RECIPES if r.name == "walk-02.jpg")
        (home / "a.jpg").write_bytes(draw_scene(recipe).data)
        with running("marl") as up:
            (home / "marl.toml").write_text(pointed_text(up))
            words = ("try", "a.jpg", "--service", "marl.toml", "--page", "t.html")
            done = dotledger(*words, cwd=home, env={"MARL_CLIENT": up.service.key})
            self.assertEqual(done.returncode, 0, done.stderr)
            text = (home / "t.html").read_text(encoding="utf-8")
            self.assertEqual(text.count('class="box"'), 3)
            for word in ("umbrella", "status 200", "&#34;things&#34;", "What was sent"):
                self.assertIn(word, text)
            self.assertNotIn(up.service.key.partition(":")[2], text)
            self.assertEqual(re.findall(r'(?:src|href)="(?!data:)([^"]*)"', text), [])
            self.assertEqual(dotledger(*words, cwd=home).returncode, 2, "it exists")
        refused = dotledger(*words, "--replace", cwd=home, env={"MARL_CLIENT": "no:thing"})
        self.assertEqual(refused.returncode, 2)
        self.assertIn("Problem:", (home / "t.html").read_text(encoding="utf-8"))
