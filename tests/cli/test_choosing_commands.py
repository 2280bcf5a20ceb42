"""The commands that choose, compare and watch, as a user meets them."""

import csv
import gzip
import json
import tempfile
import unittest
from pathlib import Path

import numpy as np

import dotledger as dotledger_library
from tests.forked import dotledger
from tests.sending.helpers import ANSWER, TEXT, Handler, pictures, served
from tests.walk import walk_in


class OnTheWalk(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.home = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cls.walk, done = walk_in(cls.home)
        cls.shown = done.stdout

    def run_on(self, command, *words, service="flint", status=0):
        files = ("--findings", f"{service}.csv", "--annotations", "annotations.csv")
        done = dotledger(command, *files, *words, cwd=self.walk)
        self.assertEqual(done.returncode, status, done.stderr)
        return done

    def test_the_demo_ends_with_a_choice(self):
        """Thresholds for each service, and which is better at what."""
        for sign in ("flint  label 0.61", "on held-out images",
                     "Significantly better on these 33 images: flint, overlap (object, face).", "No significant difference: "):  # fmt: skip
            self.assertIn(sign, self.shown)

    def test_sweep(self):
        """At most 25 rows are shown; the files hold every threshold; it says where it stops."""
        done = self.run_on("choose", "--kinds", "object", "--csv", "s.csv", "--replace")
        rows = [line for line in done.stdout.splitlines() if line.strip().startswith("0.")]
        self.assertLessEqual(len(rows), 25)
        self.assertIn("object stops at 0.497, the lowest confidence found; below 0.3", done.stdout)
        with (self.walk / "s.csv").open() as file:
            kept = list(csv.DictReader(file))
        whole = json.loads(self.run_on("choose", "--kinds", "object", "--json").stdout)
        self.assertEqual(len(kept), len(whole["thresholds"]))
        self.assertEqual(whole["floor"], 0.3)
        self.assertGreater(len(kept), len(rows))

    def test_choose_and_use(self):
        """A file is written that --threshold takes; status 1 where the aim cannot be met."""
        done = self.run_on("choose", "--aim", "recall >= 0.6", "--out", "t.toml", status=1)
        self.assertIn(
            "face: the aim cannot be met; the nearest is recall 0.55 at 0.606.", done.stdout
        )
        met = self.run_on("choose", "--aim", "recall >= 0.6", "--kinds", "object,label", "--json")
        plain = json.loads(met.stdout)
        self.assertTrue({"thresholds", "outcome", "optimistic"} <= set(plain))
        cut = json.loads(self.run_on("measure", "--threshold", "t.toml", "--json").stdout)
        self.assertEqual(
            cut["threshold"], {"label": 0.611, "object": 0.853, "face": 0.606, "unsafe": 0.625}
        )
        refused = self.run_on("measure", "--threshold", "t.toml", service="marl", status=2)
        self.assertIn("holds none for marl", refused.stderr)
        self.run_on("choose", "--aim", "recall >= 0.6", "--out", "t.toml", "--join", service="marl")
        self.run_on("measure", "--threshold", "t.toml", service="marl")
        self.run_on("measure", "--threshold", "t.toml")
        other = self.run_on("choose", "--aim", "best f1", "--out", "t.toml", "--join", status=2)
        self.assertIn("one aim", other.stderr)
        taken = self.run_on("choose", "--aim", "best f1", "--out", "t.toml", status=2)
        self.assertIn("--replace", taken.stderr)
        wrong = self.run_on("choose", "--aim", "recal > 1", status=2)
        self.assertIn("--aim: not an aim; is it 'recall' for 'recal'?", wrong.stderr)

    def test_below_the_floor(self):
        """A threshold where nothing is known is refused by every command."""
        for words in (("measure", "--findings", "flint.csv", "--annotations", "annotations.csv"),
                      ("findings", "--ledger", "walk.ledger", "--service", "flint")):  # fmt: skip
            done = dotledger(*words, "--threshold", "0.1", cwd=self.walk)
            self.assertEqual(done.returncode, 2)
            self.assertIn("below the service's floor", done.stderr)

    def test_what_was_cut(self):
        """Views say what we cut and what the service did; without a strong finding: undecided."""
        found = ("findings", "--ledger", "walk.ledger", "--service", "flint", "--kinds", "object")
        strong = dotledger(*found, "--strongest", 1, "--least", 0.9, cwd=self.walk)
        self.assertIn("Undecided: 6 images, crowd-03.jpg", strong.stdout)
        self.assertIn("Cut by the threshold: 18 findings.", strong.stdout)
        self.assertIn("everything below 0.3", dotledger(*found, cwd=self.walk).stdout)
        alone = dotledger(*found, "--least", 0.9, cwd=self.walk)
        self.assertIn("goes with --strongest", alone.stderr)
        cut = self.run_on("measure", "--threshold", "0.9", "--draws", 0)
        self.assertIn(
            "Below the threshold: 36 findings; below 0.3 the service gave none.", cut.stdout
        )

    def test_compare(self):
        """Differences, who finds what, claims, the two together, and what each costs."""
        done = dotledger("compare", "flint", "marl", "--ledger", "walk.ledger", "--annotations", "annotations.csv",
                         "--threshold", "0.5", "--claim", "recall 0.92", "--together", 2, cwd=self.walk)  # fmt: skip
        self.assertEqual(done.returncode, 0, done.stderr)
        for sign in ("marl compared with flint, on 33 common images", "flint is better (p 0.001)", "Tested together: 134 rows", "no significant difference",
                     "together compared with marl", "Never beaten by another run", "marl: 0.98 (0.94", "not compatible",
                     "0.00370 EUR", "crowd-01.jpg face +8"):  # fmt: skip
            self.assertIn(sign, done.stdout)
        plain = json.loads(
            dotledger(
                "compare",
                "flint.csv",
                "marl.csv",
                "--annotations",
                "annotations.csv",
                "--json",
                cwd=self.walk,
            ).stdout
        )
        self.assertEqual(plain["names"], ["flint", "marl"])
        self.assertTrue(plain["pooled"]["mean_overlap"]["told_apart"])
        same = dotledger("compare", "flint.csv", "flint.csv", cwd=self.walk)
        self.assertIn("two runs of one name", same.stderr)
        worklist = dotledger(
            "compare", "flint.csv", "marl.csv", "--worklist", "w.csv", cwd=self.walk
        )
        self.assertIn("not who is right", worklist.stdout)
        self.assertEqual(
            (self.walk / "w.csv").read_text().splitlines()[:2],
            ["image,kind,both,disputed", "crowd-01.jpg,face,0,8"],
        )

    def test_gate(self):
        """Status 1 where anything does not hold; JUnit and Markdown are written."""
        (self.walk / "g.toml").write_text(
            "gates_file = 1\nthreshold = 0.5\n[[gate]]\nmeasure = 'recall'\nof = 'face'\nat_least = 0.6\n"
            "[[gate]]\nmeasure = 'recall'\nof_each = 'kind'\nfalls_at_most = 0.05\nagainst = 'flint'\n"
        )  # fmt: skip
        words = ("--against", "flint=flint.csv", "--junit", "j.xml", "--markdown", "j.md", "--replace")  # fmt: skip
        self.assertIn(
            "5 hold, 0 do not.", self.run_on("gate", "g.toml", *words, service="marl").stdout
        )
        done = self.run_on("gate", "g.toml", *words, status=1)
        self.assertIn("recall of face at least 0.6 [face]: 0.548, at least 0.6 asked.", done.stdout)
        self.assertIn('failures="1"', (self.walk / "j.xml").read_text())
        missing = self.run_on("gate", "g.toml", status=2)
        self.assertIn("unknown earlier run", missing.stderr)

    def test_drift(self):
        """What changed, beyond chance; fields of answers; nothing where nothing did."""
        done = dotledger("drift", "flint", "marl", "--ledger", "walk.ledger", cwd=self.walk)
        self.assertIn("typical seconds of a call", done.stdout)
        self.assertIn("Fields of answers that vanished: faces[].place", done.stdout)
        self.assertLess(
            done.stdout.index("The service: flint, then marl."), done.stdout.index("typical")
        )
        self.assertIn(
            "images with an answer",
            dotledger(
                "drift", "flint", "marl", "--ledger", "walk.ledger", "--every", cwd=self.walk
            ).stdout,
        )
        from datetime import UTC, datetime

        month = f"flint@{datetime.now(UTC):%Y-%m}"
        whole = dotledger("drift", "flint", month, "--ledger", "walk.ledger", cwd=self.walk)
        self.assertIn("33 and 33 images, the same in both runs.", whole.stdout)
        self.assertIn("Both runs have the same labels, confidences and boxes.", whole.stdout)
        same = dotledger("drift", "flint.csv", "flint.csv", cwd=self.walk)
        self.assertIn("Both runs have the same labels, confidences and boxes.", same.stdout)


class Changing(Handler):
    """Answers, and after twelve calls says that it is another version."""

    def asked(self):
        self.body()
        self.seen.append(self.path)
        self.reply(ANSWER if len(self.seen) <= 12 else {**ANSWER, "model": "2"})


class Rounds(unittest.TestCase):
    def test_asking_again(self):
        """A round is paid for, kept next to the first, named, and compared with it."""
        home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (home / "p").mkdir()
        for name, data in pictures(12).items():
            (home / "p" / name).write_bytes(data)
        port, handler = served(self, Changing)
        address = f'address = "http://127.0.0.1:{port}/'
        text = TEXT.replace('address = "http://127.0.0.1:1/', address)
        (home / "bell.toml").write_text(f'{text}\n[envelope]\nversion = "model"\n')
        send = ("send", "p", "--service", "bell.toml", "--ledger", "l.ledger")
        autumn = ("--round", "autumn")
        for words, calls in (((), 12), ((), 12), (autumn, 24), (autumn, 24)):
            done = dotledger(*send, *words, cwd=home, env={"BELL_KEY": "k"})
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertEqual(len(handler.seen), calls)
        shown = dotledger("batches", "--ledger", "l.ledger", cwd=home).stdout
        self.assertIn("autumn", shown)
        detail = dotledger("batches", "2", "--ledger", "l.ledger", cwd=home).stdout
        self.assertIn("Round: autumn.", detail)
        self.assertIn("The service says it is version 2 (12 calls).", detail)
        drift = dotledger("drift", "1", "bell@autumn", "--ledger", "l.ledger", cwd=home)
        self.assertIn("Fields of answers that appeared: model.", drift.stdout, drift.stderr)
        wrong = dotledger("drift", "1", "bell@autum", "--ledger", "l.ledger", cwd=home)
        self.assertIn("of the round 'autum'", wrong.stderr)


class ThreeHundredScenes(unittest.TestCase):
    """What ``demo --scenes 300`` gave, kept: 33 scenes are too few to choose by."""

    @classmethod
    def setUpClass(cls):
        cls.home = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        for file in (Path(__file__).parent.parent / "data" / "walk-300").iterdir():
            (cls.home / file.stem).write_bytes(gzip.decompress(file.read_bytes()))

    def test_choosing(self):
        """What is promised on unseen images holds: half chosen on, half judged at the thresholds."""
        true = dotledger_library.read_annotations(self.home / "annotations.csv")
        found = dotledger_library.read_findings(self.home / "flint.csv")
        names = sorted(true.image.used())
        odd, even = (true.filter(image=names[start::2]) for start in (0, 1))
        chosen = dotledger_library.choose_thresholds(
            found, odd, aim="recall >= 0.9", kinds=["object", "label"]
        )
        later = dotledger_library.measure(found, even, threshold=chosen, kinds=["object", "label"])
        for kind, group in chosen.groups.items():
            low, high = group.outcome.intervals["recall"]
            self.assertTrue(low <= later.kinds[kind].pooled.recall <= high, kind)
            self.assertTrue(group.attainable)

    def test_commands(self):
        """Two thresholds for three ways; labels of their own; runs told apart at one aim."""
        files = ("--findings", "marl.csv", "--annotations", "annotations.csv")
        ways = dotledger(
            "choose",
            *files,
            "--aim",
            "at most 2% of unsafe images pass, at most 3% of safe images are stopped",
            cwd=self.home,
        )
        self.assertEqual(ways.returncode, 0, ways.stderr)
        self.assertIn(
            "Below 0.625 pass, from 0.795 on stop, between them a person looks.", ways.stdout
        )
        labels = dotledger(
            "choose", *files, "--aim", "best f1", "--each", "label", "--draws", 0, cwd=self.home
        )
        self.assertIn(
            "these take the threshold of their kind: unsafe:broken glass (18)", labels.stdout
        )
        told = dotledger(
            "compare",
            "flint.csv",
            "marl.csv",
            "--annotations",
            "annotations.csv",
            "--aim",
            "best f1",
            "--json",
            cwd=self.home,
        )
        pair = json.loads(told.stdout)
        self.assertTrue(pair["kinds"]["face"]["recall"]["told_apart"])
        self.assertGreater(pair["kinds"]["face"]["recall"]["low"], 0.5)
        self.assertLess(pair["kinds"]["object"]["precision"]["high"], 0)

    def test_screening(self):
        """Verdicts with reasons, the worst first, written out, and measured; status 1 on request."""
        (self.home / "rules.toml").write_text(
            "rules_file = 1\nunmentioned = 'hold'\nunmentioned_from = 0.5\n[[rule]]\nname = 'hazards'\nverdict = 'block'\n"
            "kind = 'unsafe'\nlabel = ['open flame', 'broken glass']\nconfidence = 0.6\n"
        )  # fmt: skip
        words = (
            "screen",
            "rules.toml",
            "--findings",
            "marl.csv",
            "--annotations",
            "annotations.csv",
        )
        done = dotledger(*words, "--most", 3, "--out", "v.jsonl", cwd=self.home)
        self.assertEqual(done.returncode, 0, done.stderr)
        with (self.home / "marl.csv").open() as file:
            unsafe = [
                row for row in csv.DictReader(file) if row["kind"] == "unsafe" and row["label"]
            ]
        block = {
            r["image"] for r in unsafe if r["label"] != "smoke" and float(r["confidence"]) >= 0.6
        }
        hold = {
            r["image"] for r in unsafe if r["label"] == "smoke" and float(r["confidence"]) >= 0.5
        } - block
        rest = 298 - len(block) - len(hold)
        counts = f"{len(block)} block, {len(hold)} hold, {rest} pass."
        self.assertIn(
            f"Findings of marl, batch 2, from marl.csv; annotations of annotations.csv.\nrules.toml: 298 images, {counts}",
            done.stdout,
        )
        self.assertIn("block, hazards: open flame 0.90, at least 0.6 asked", done.stdout)
        self.assertIn(f"The worst 3 of {len(block | hold)} are shown", done.stderr)
        self.assertIn("unsafe that pass: 0.02 (0.00", done.stdout)
        lines = [json.loads(line) for line in (self.home / "v.jsonl").read_text().splitlines()]
        self.assertEqual(len(lines), 298)
        self.assertEqual((lines[0]["verdict"], lines[-1]["verdict"]), ("block", "pass"))
        self.assertEqual(dotledger(*words, "--fail", cwd=self.home).returncode, 1)
        for extra, why in ((("--out", "v.xlsx"), "names no known format"), (("--out", "v.jsonl"), "--replace")):  # fmt: skip
            refused = dotledger(*words, *extra, cwd=self.home)
            self.assertEqual(refused.returncode, 2)
            self.assertIn(why, refused.stderr)

    def test_scenes_are_seeded(self):
        """The kept truth is that of the scenes as they are drawn today."""
        from dotledger.standins.demo_scenes import draw_scene, truth
        from dotledger.standins.more_scenes import recipes

        kept = dotledger_library.read_annotations(self.home / "annotations.csv")
        every = recipes(300)
        self.assertEqual(len({recipe.name for recipe in every}), 300)
        for recipe in (every[40], every[150], every[299]):
            scene = draw_scene(recipe)
            drawn = truth([scene])
            mine = kept.filter(image=scene.name)
            self.assertEqual(len(mine), len(drawn))
            self.assertTrue(
                np.array_equal(
                    np.sort(mine.box, axis=0), np.sort(drawn.box, axis=0), equal_nan=True
                )
            )
            self.assertEqual(draw_scene(recipe).data, scene.data)
