"""The command line as a user meets it, on the demo's data."""

import csv
import json
import shlex
import tempfile
import unittest
from pathlib import Path

from PIL import Image

from dotledger.standins.evening_demo import description_text, evening_walk
from tests.forked import dotledger
from tests.walk import walk_in


class Demo(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.home = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cls.walk, cls.done = walk_in(cls.home)

    def test_demo_shows_what_the_scenes_were_made_to_show(self):
        """One command: two services side by side, and what each gets wrong."""
        self.assertEqual(self.done.returncode, 0, self.done.stderr)
        for sign in (
            "flint misses the most faces",
            "marl takes the moon for a lantern: in 5 of 5",
            "marl draws the loosest boxes",
            "refused: tiny-01.png",
            "refused: damaged-01.jpg",
            "Things to try next",
            "Verdicts of ",
        ):
            self.assertIn(sign, self.done.stdout)
        self.assertRegex(self.done.stdout, r"flint: +marl:\n *kind +label +annotated +recall")
        self.assertNotIn("\\n", self.done.stdout, "no control character is written out")
        self.assertNotIn("demo-secret", self.done.stdout + self.done.stderr)
        ledger = (self.walk / "walk.ledger").read_bytes()
        self.assertNotIn(b"demo-secret", ledger)
        self.assertNotIn(b"flint-demo-key", ledger)

    def test_as_json(self):
        """The measures of both services, one document."""
        done = dotledger("demo", "--folder", "as-json", "--json", cwd=self.home)
        services = json.loads(done.stdout)["services"]
        self.assertEqual(services["flint"]["kinds"]["face"]["pooled"]["misses"], 19)

    def test_the_next_commands_run(self):
        """What the demo's last lines propose works as printed."""
        proposed = [
            shlex.split(line)
            for line in self.done.stdout.splitlines()
            if line.startswith("  dotledger ")
        ]
        self.assertEqual(len(proposed), 5)
        for words in proposed:
            done = dotledger(*words[1:], cwd=self.home)
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertTrue(done.stdout)

    def test_measure_fixed_point(self):
        """The JSON of ``measure`` holds the promised keys, and equals the Python call."""
        import dotledger as library

        files = (
            "--findings",
            self.walk / "marl.csv",
            "--annotations",
            self.walk / "annotations.csv",
        )
        done = dotledger("measure", *files, "--overlap", 0.5, "--threshold", 0.5, "--json")
        got = json.loads(done.stdout)
        wanted = library.measure(
            library.read_findings(files[1]),
            library.read_annotations(files[3]),
            overlap=0.5,
            threshold=0.5,
        ).to_dict(everything=True)
        loaded, about = got.pop("loaded"), got.pop("about")
        self.assertEqual(about["annotations"], str(files[3]))
        self.assertEqual((got.pop("output"), got.pop("version")), ("measure", 1))
        self.assertEqual(got, json.loads(json.dumps(wanted)))
        self.assertEqual(
            loaded["annotations"]["annotations"]["face"]["face"], self.count("face", "face")
        )
        self.assertLessEqual(
            {
                "overlap",
                "threshold",
                "images_in_scope",
                "unjudged",
                "labels",
                "pooled",
                "mean_over_labels",
            },
            set(got),
        )
        self.assertLessEqual(
            {
                "annotated",
                "true_positives",
                "false_positives",
                "misses",
                "precision",
                "recall",
                "f1",
                "mean_overlap",
                "average_precision",
            },
            set(got["labels"]["object:lantern"]),
        )
        self.assertIsNone(got["labels"]["label:lantern"]["mean_overlap"])

    def test_measure_for_people(self):
        """The table starts with the scope and puts misses first; rows go out as CSV."""
        out = self.home / "rows.csv"
        done = dotledger(
            "measure",
            "--ledger",
            self.walk / "walk.ledger",
            "--service",
            "flint",
            "--annotations",
            self.walk / "annotations.csv",
            "--csv",
            out,
        )
        self.assertRegex(done.stdout, r"^Findings of flint, batch 1 \(sent .*\nImages in scope: 33")
        with out.open() as file:
            self.assertIn("face", {row["label"] for row in csv.DictReader(file)})

    def count(self, kind, label):
        """Count rows of the ground truth's file."""
        with (self.walk / "annotations.csv").open() as file:
            rows = csv.DictReader(file)
            return sum((row["kind"], row["label"]) == (kind, label) for row in rows)

    def measured(self, *words):
        """Measure flint's findings on the demo's scenes."""
        base = (
            "--findings",
            self.walk / "flint.csv",
            "--annotations",
            self.walk / "annotations.csv",
        )
        done = dotledger("measure", *base, "--images", self.walk / "images.csv", *words)
        self.assertEqual(done.returncode, 0, done.stderr)
        return done

    def test_measure_shows_what_is_asked_for(self):
        """Scope, table, pooled line with intervals; reasons, slices and points when asked."""
        plain = self.measured("--threshold", "0.8").stdout
        self.assertRegex(
            plain,
            r"(?s)^Findings of flint, batch 1 [^\n]*threshold 0.8[^\n]*\nImages in scope: 33.*object, pooled +0\.88 \(0\.\d\d.0",
        )
        words = (
            "--also",
            "reasons,confusion,reliability,counts,screening,details,text,images",
            "--by",
            "size:0.01",
            "--by",
            "scene",
        )
        shown = self.measured("--threshold", "face=0.9,object=0.8", "--overlap", "0.5,0.75", *words)
        for sign in (
            "Why missed", "too small", "expected calibration error", "found minus annotated",
            "Images by unsafe content", "No lines of writing", "face by size", "under 1 %", "overlap-",
            "object by scene", "mean AP over the required overlaps", "thresholds face 0.9, object 0.8",
        ):  # fmt: skip
            self.assertIn(sign, shown.stdout)
        self.assertIn("207 annotations", shown.stderr)

    def test_what_was_cut_is_said_by_measure(self):
        """A word of the service works from ledger and file; the cut stands next to the file."""
        out = self.home / "cut.csv"
        words = ("--ledger", self.walk / "walk.ledger", "--service", "flint")
        done = dotledger("findings", *words, "--threshold", "unsafe=plain,object=0.8", "--out", out)
        self.assertEqual(done.returncode, 0, done.stderr)
        truth = ("--annotations", self.walk / "annotations.csv", "--draws", 0)
        shown = dotledger("measure", "--findings", out, *truth, "--threshold", "likely")
        self.assertEqual(shown.returncode, 0, shown.stderr)
        self.assertRegex(shown.stdout, "cut before, at .*object 0.8.*average precision")
        plain = dotledger("measure", *words, *truth, "--merge", 0.5, "--tolerance", "age=5")
        self.assertIn("Repeated boxes merged", plain.stderr)
        self.assertNotIn("cut before", plain.stdout)

    def test_every_part_can_be_shown(self):
        """The parts that the command offers are those that can be shown."""
        from dotledger.cli.measure.measure_command import _PARTS
        from dotledger.report.terminal.measure_tables import PARTS

        self.assertEqual(_PARTS.split(","), list(PARTS))

    def test_vocabulary(self):
        """Declared labels are judged though none occurs; a kind that is not one is refused."""
        words = ("--vocabulary", "object=lantern,kite", "--kinds", "object", "--json")
        got = json.loads(self.measured(*words).stdout)
        self.assertEqual(set(got["labels"]), {"lantern", "kite"})
        self.assertIsNone(got["labels"]["kite"]["recall"])
        truth = self.walk / "annotations.csv"
        for bad in ("objects=x", "object"):
            self.assertEqual(dotledger("annotations", truth, "--vocabulary", bad).returncode, 2)

    def test_measure_writes_everything(self):
        """Into a folder goes one CSV for each table; names are guarded text."""
        out = self.home / "all"
        self.measured("--threshold", "0.8", "--csv", out)
        names = {path.name for path in out.iterdir()}
        wanted = {
            "labels.csv",
            "pooled.csv",
            "images.csv",
            "wrong.csv",
            "missed.csv",
            "reasons.csv",
        }
        wanted |= {"by-size.csv", "by-scene.csv", "confusion-object.csv", "curve-face.csv"}
        self.assertLessEqual(wanted, names)
        with (out / "missed.csv").open() as file:
            rows = list(csv.DictReader(file))
        self.assertEqual(len(rows), 37)
        self.assertEqual(rows[0]["kind"], "object")

    def test_annotations_command(self):
        """Ground truth is reported, and goes out as Web Annotations and inside the images."""
        truth, images = self.walk / "annotations.csv", self.walk / "images"
        out = self.home / "truth.jsonld"
        done = dotledger("annotations", truth, "--images", images, "--out", out)
        self.assertIn("35 images (0 of them empty), 207 annotations, 2 ignored", done.stdout)
        again = json.loads(dotledger("annotations", out, "--json").stdout)
        self.assertEqual(again["annotations"]["object"]["lantern"], self.count("object", "lantern"))
        copies = dotledger("annotations", truth, "--images", images, "--out", self.home / "copies")
        self.assertIn("Written: 35 images", copies.stderr, copies.stdout)

    def test_reliability_command(self):
        """A mapping is fitted on half the images, judged on the others, kept and used again."""
        base = (
            "--findings",
            self.walk / "flint.csv",
            "--annotations",
            self.walk / "annotations.csv",
            "--kinds",
            "object",
        )
        kept, out = self.home / "map.json", self.home / "mapped.csv"
        fitted = json.loads(dotledger("reliability", *base, "--fit", kept, "--json").stdout)
        self.assertEqual(
            set(fitted), {"output", "version", "about", "confidences", "images", "doubts"}
        )
        self.assertEqual(set(fitted["confidences"]), {"as answered", "mapped"})
        done = dotledger("reliability", *base, "--use", kept, "--out", out)
        self.assertIn("that the mapping was not fitted on", done.stdout)
        self.assertTrue(out.exists())
        self.assertEqual(dotledger("reliability", *base, "--use", out).returncode, 2)

    def test_findings(self):
        """Findings show as a table, as JSON with details, and go into files."""
        base = (
            "findings",
            "--ledger",
            self.walk / "walk.ledger",
            "--service",
            "marl",
            "--kinds",
            "face",
        )
        rows = json.loads(dotledger(*base, "--json").stdout)["findings"]
        self.assertIn("smiling", rows[0]["details"]["attributes"])
        table = dotledger(*base, "--most", 3).stdout
        self.assertEqual(table.count("face  face"), 3)
        out = self.home / "faces.jsonl"
        self.assertIn("rows written", dotledger(*base, "--out", out).stderr)
        self.assertEqual(len(out.read_text().splitlines()), len(rows))

    def test_draw(self):
        """Pictures and a contact sheet open as images."""
        folder = self.home / "pictures"
        done = dotledger(
            "draw",
            self.walk / "images",
            "--findings",
            self.walk / "flint.csv",
            "--out",
            folder,
            "--json",
        )
        made = json.loads(done.stdout)
        self.assertEqual(len(made["pictures"]), 33)
        with Image.open(made["contact_sheet"]) as sheet:
            self.assertGreater(sheet.width, 1000)

    def test_draw_matches_names_and_says_what_it_leaves(self):
        """One image of a larger batch, by its path: one line of what is not drawn, one of others."""
        folder = self.home / "one"
        image = self.walk / "images" / "crowd-01.jpg"
        words = (
            "--findings",
            self.walk / "marl.csv",
            "--annotations",
            self.walk / "annotations.csv",
            "--out",
            folder,
        )
        for more in ((), ("--replace",)):
            done = dotledger("draw", image, *words, *more)
            self.assertEqual(done.returncode, 0, done.stderr)
            (folder / "mine.txt").write_text("kept")
        self.assertIn("1 picture in", done.stdout)
        self.assertIn("not drawn, 32 images with findings", done.stderr)
        self.assertIn("1 other file in", done.stderr)
        self.assertLess(len(done.stderr.splitlines()), 6)

    def test_the_turned_image_is_drawn_upright(self):
        """The image with an orientation tag is drawn upright, with its lantern found."""
        with Image.open(self.walk / "pictures" / "flint" / "turned-01.jpg.png") as picture:
            self.assertLess(picture.width, picture.height)
        with (self.walk / "flint.csv").open() as file:
            [lantern] = [
                r
                for r in csv.DictReader(file)
                if r["image"] == "turned-01.jpg"
                and r["kind"] == "object"
                and r["label"] == "lantern"
            ]
        self.assertAlmostEqual(
            (float(lantern["x0"]) + float(lantern["x1"])) / 2, 0.3 * 560, delta=6
        )
        self.assertAlmostEqual(
            (float(lantern["y0"]) + float(lantern["y1"])) / 2, 0.26 * 760, delta=6
        )

    def test_send_twice_sends_nothing(self):
        """A second sending of the same images with the same settings makes no call."""
        with evening_walk(self.walk, services=("flint",)) as evening:
            port = evening.services["flint"].connect.settings["port"]
            words = (
                "send",
                self.walk / "images",
                "--service",
                self.walk / "flint.toml",
                "--ledger",
                self.home / "l.ledger",
                "--set",
                f"port={port}",
            )
            key = {"FLINT_KEY": evening.keys["flint"]}
            first = dotledger(*words, "--json", env=key)
            self.assertEqual(json.loads(first.stdout)["calls"], 33, first.stderr)
            self.assertEqual(first.returncode, 3)
            second = dotledger(*words, env=key)
            self.assertIn("Nothing sent", second.stdout)
            moved = self.home / "again"
            moved.mkdir()
            for path in (self.walk / "images").glob("moon-*"):
                (moved / path.name).write_bytes(path.read_bytes())
            third = dotledger("send", moved, *words[2:], "--json", env=key)
            self.assertEqual([json.loads(third.stdout)[k] for k in ("calls", "reused")], [0, 4])


class Mistakes(unittest.TestCase):
    def test_exit_status_and_one_line(self):
        """Bad input ends with status 2 and one line that says what to do; no traceback."""
        with tempfile.TemporaryDirectory() as home:
            for words, sign in (
                (("measure", "--findings", "x.csv", "--annotations", "none.csv"), "none.csv"),
                (("findings", "--ledger", "none.ledger"), "no ledger here"),
                (("send", "none", "--service", "x.toml"), "cannot be read"),
                (("send",), "Missing argument"),
                (("draw", ".", "--out", "x", "--ledger", "none.ledger"), "no ledger"),
                (("measure", "--annotations", "a.csv", "--overlap", "much"), "--overlap"),
                (("measure", "--annotations", "a.csv", "--also", "reason"), "reasons, confusion"),
                (("annotations", "none.json"), "cannot be read"),
                (("reliability", "--annotations", "a.csv", "--use", "m.json"), "a.csv"),
            ):
                done = dotledger(*words, cwd=home)
                self.assertEqual(done.returncode, 2, words)
                self.assertIn(sign, done.stderr)
                self.assertNotIn("Traceback", done.stderr)
            self.assertEqual(list(Path(home).iterdir()), [])

    def test_every_help_has_an_example(self):
        """``--help`` of each command reads well and shows how it is used."""
        listing = dotledger("--help").stdout
        from dotledger.cli import _FOLDERS

        for name in _FOLDERS:
            self.assertIn(name, listing)
            self.assertIn(f"Example:\n    dotledger {name}", dotledger(name, "--help").stdout)


class Readings(unittest.TestCase):
    def test_draft(self):
        """A draft from sample answers reads them, and is a description that ``try`` accepts."""
        from tests.services.test_drafting import SHAPES, SIZES

        with tempfile.TemporaryDirectory() as name:
            home = Path(name)
            words = ["draft"]
            for number, answer in enumerate(SHAPES["corners as an object, fraction confidence"]):
                (home / f"{number}.json").write_text(json.dumps(answer))
                Image.new("RGB", tuple(map(int, SIZES[number]))).save(home / f"{number}.png")
                words.append(f"{number}.json")
            images = ("--image", "0.png", "--image", "1.png")
            done = dotledger(*words, *images, "--out", "mine.toml", cwd=home)
            self.assertRegex(
                done.stdout, r"0.json +object +lantern +0.90 +80.0 +60.0 +240.0 +300.0"
            )
            dry = dotledger("try", "--service", "mine.toml", "--dry", cwd=home)
            self.assertEqual(dry.returncode, 0, dry.stderr)
            (home / "empty.json").write_text("{}")
            nothing = dotledger("draft", "empty.json", cwd=home)
            self.assertEqual(nothing.returncode, 2)
            self.assertIn("looks like a list of findings", nothing.stderr)
            self.assertIn(
                "one image for each", dotledger(*words, "--image", "0.png", cwd=home).stderr
            )

    def test_check_reread_names(self):
        """A misread convention is found, mended by reading again, and names are held against a map."""
        with tempfile.TemporaryDirectory() as name:
            home = Path(name)
            with evening_walk(home, services=("marl",)) as evening:
                import dotledger as library

                wrong = (
                    evening.services["marl"]
                    .to_json()
                    .replace('"form":"centre+size"', '"form":"corner+size"')
                    .replace('"cx"', '"x0"')
                    .replace('"cy"', '"y0"')
                )
                from dotledger.services.service_description import stored_description

                library.send(
                    evening.images,
                    stored_description(wrong),
                    ledger=home / "l",
                    key=evening.keys["marl"],
                )
                (home / "marl.toml").write_text(description_text("marl"))
            base = ("--ledger", "l")
            truth = ("--annotations", "annotations.csv")
            self.assertIn(
                "Read as centre and size, where a corner and size were read",
                dotledger(
                    "measure", *truth, *base, "--also", "conventions", "--draws", 0, cwd=home
                ).stdout,
            )
            again = dotledger("reread", "--service", "marl.toml", *base, cwd=home).stdout
            self.assertRegex(
                again,
                r"reading 2: 33 answers.*\n205 findings unchanged, \d+ gone, \d+ new",
            )
            self.assertIn(
                "No other convention fits clearly better",
                dotledger(
                    "measure", *truth, *base, "--also", "conventions", "--draws", 0, cwd=home
                ).stdout,
            )
            (home / "n.csv").write_text("label,becomes\nlanter,lantern\nface,\n")
            told = dotledger("findings", "--names", "n.csv", *base, "--json", cwd=home)
            self.assertIn("Entries of n.csv that match no finding: lanter", told.stderr)
            listed = json.loads(told.stdout)["names"]
            self.assertEqual(listed["left_out"], 42)
            self.assertNotIn("lantern", {row["label"] for row in listed["unmapped"]})
            old = json.loads(
                dotledger("findings", *base, "--reading", 1, "--json", cwd=home).stdout
            )["findings"]
            new = json.loads(
                dotledger(
                    "findings", *base, "--merge", 0.9, "--names", "n.csv", "--json", cwd=home
                ).stdout
            )["findings"]
            self.assertLess(len(new), len(old))
            self.assertEqual(
                json.loads(dotledger("findings", *base, "--notes", "--json", cwd=home).stdout)[
                    "notes"
                ],
                [],
            )
