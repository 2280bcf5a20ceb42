"""Sorting: who goes where and why, safe names, and that a second run adds nothing."""

import csv
import io
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

from PIL import Image

from dotledger.acting.finding_crops import crop_findings
from dotledger.acting.image_sorting import sort_images
from dotledger.acting.sorting_places import (
    places_by_label,
    places_by_outcome,
    places_by_person,
    places_by_verdict,
)
from dotledger.core.decisions.decide import decide
from dotledger.core.decisions.rule_conditions import Condition, Rule, Rules
from dotledger.core.tables.finding_details import Details
from dotledger.errors import ArgumentError
from dotledger.formats.rules_files import read_rules
from dotledger.images.image_gathering import gather
from tests.acting.test_face_covering import encoded, noise
from tests.core.measurement.test_measure import findings_of
from tests.forked import dotledger
from tests.walk import walk_in

FOUND = findings_of([
    ("a.png", "object", "cup", 0.9, (0, 0, 9, 9)), ("a.png", "object", "hat", 0.6, (0, 0, 9, 9)),
    ("b.png", "object", "cup", 0.3, (0, 0, 9, 9)), ("c.png", "object", "", None, None),
    ("d.png", "object", "hat", None, (0, 0, 9, 9)), ("d.png", "label", "sky", 0.8, None),
])  # fmt: skip


class Places(unittest.TestCase):
    def test_by_label(self):
        """Two labels, two places; below the threshold undecided; blank: nothing found."""
        got = places_by_label(FOUND, kind="object", threshold=0.5)
        self.assertEqual(got, {
            "a.png": [("cup", "0.90"), ("hat", "0.60")], "b.png": [("undecided", "nothing sure enough")],
            "c.png": [("nothing found", "")], "d.png": [("hat", "asserted")],
        })  # fmt: skip
        self.assertEqual(places_by_label(FOUND)["d.png"], [("hat", "asserted"), ("sky", "0.80")])
        strong = places_by_label(FOUND, kind="object", strongest=True, least=0.95)
        self.assertEqual(
            [strong[f"{n}.png"][0][0] for n in "abcd"],
            ["undecided", "undecided", "nothing found", "hat"],
        )
        self.assertEqual(places_by_label(FOUND, strongest=True)["a.png"], [("cup", "0.90")])

    def test_by_verdict(self):
        """One place each, with the reasons."""
        rules = Rules(
            rules=(
                Rule(
                    name="cups",
                    verdict="hold",
                    when=Condition(kind="object", labels=("cup",), confidence=0.5),
                ),
            )
        )
        got = places_by_verdict(decide(FOUND, rules))
        self.assertEqual(got["a.png"], [("hold", "hold, cups: cup 0.90, at least 0.5 asked")])
        self.assertEqual(got["b.png"][0][0], "pass")


class Sorting(unittest.TestCase):
    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.images = {f"{n}.png": encoded(noise(seed=k)) for k, n in enumerate("abc")}

    def sort(self, places, **options):
        return list(sort_images(gather(self.images), places, self.home / "out", **options))

    def test_twice(self):
        """Everything once; then nothing; then nothing over what somebody else put there."""
        places = {"a.png": [("x", "0.9"), ("y", "0.8")], "b.png": [("x", "0.7")]}
        self.assertEqual([one.state for one in self.sort(places)], ["new"] * 4)
        self.assertEqual({p.relative_to(self.home / "out").as_posix() for p in self.home.rglob("*.png")},
                         {"x/a.png", "y/a.png", "x/b.png", "no-answer/c.png"})  # fmt: skip
        self.assertEqual((self.home / "out/x/a.png").read_bytes(), self.images["a.png"])
        self.assertEqual([one.state for one in self.sort(places)], ["there already"] * 4)
        (self.home / "out/x/a.png").write_bytes(b"mine")
        self.assertIn("something else is there", self.sort(places)[0].state)
        self.assertEqual((self.home / "out/x/a.png").read_bytes(), b"mine")

    def test_names(self):
        """Labels and images of any name stay inside the folder, and never fall together."""
        self.images = {
            "a/x.png": encoded(noise(seed=1)),
            "a--x.png": encoded(noise(seed=2)),
            "../up.png": encoded(noise(seed=3)),
        }
        labels = ["../..", "A b", "a-b", "undecided", "no answer", "x" * 500]
        places = {name: [(label, "") for label in labels] for name in self.images}
        done = self.sort(places)
        self.assertEqual({one.state for one in done}, {"new"})
        self.assertEqual(len({one.path for one in done}), 18)
        self.assertEqual(len({one.path.parent.name.casefold() for one in done}), 6)
        for one in done:
            self.assertEqual(one.path.parent.parent, self.home / "out")
            self.assertEqual(one.path.read_bytes(), self.images[one.image])

    def test_links_and_lists(self):
        """Links lead to the files; what is no file cannot be linked; a list writes nothing."""
        (self.home / "in").mkdir()
        (self.home / "in" / "a.png").write_bytes(self.images["a.png"])
        places = {"a.png": [("x", "")]}
        for state in ("new", "there already"):
            [one] = sort_images(gather(self.home / "in"), places, self.home / "out", how="link")
            self.assertEqual(one.state, state)
        self.assertEqual(one.path.resolve(), (self.home / "in" / "a.png").resolve())
        self.assertTrue(one.path.is_symlink())
        self.assertIn("not a file", self.sort(places, how="link")[1].state)
        listed = self.home / "none"
        self.assertEqual(
            [o.state for o in sort_images(gather(self.images), places, listed, how="list")],
            ["listed"] * 3,
        )
        self.assertFalse(listed.exists())
        with self.assertRaisesRegex(ArgumentError, "copy"):
            self.sort(places, how="move")

    def test_command(self):
        """Folders, a manifest with reasons, and a second run that adds nothing."""
        walk, _ = walk_in(self.home)
        words = ("sort", "images", "--findings", "flint.csv", "--kinds", "object", "--out", "sorted", "--threshold", 0.5)  # fmt: skip
        first, second = dotledger(*words, cwd=walk), dotledger(*words, cwd=walk)
        self.assertEqual(first.returncode, 0, first.stderr)
        self.assertIn("52 new files, 0 there already", first.stdout)
        self.assertIn("0 new files, 52 there already", second.stdout)
        with (walk / "sorted" / "sorted.csv").open() as file:
            rows = list(csv.DictReader(file))
        self.assertEqual(len(rows), 52)
        self.assertEqual(
            {r["place"] for r in rows if r["image"] in ("damaged-01.jpg", "tiny-01.png")},
            {"no answer"},
        )
        kept = ("sort", "images", "--ledger", "walk.ledger", "--service", "flint", "--out", "other")
        done = dotledger(*kept, "--by", "outcome", "--how", "list", cwd=walk)
        self.assertRegex(done.stdout, r"failed +1\nfound +33\nrefused +1|found +33\nrefused +2")
        done = dotledger(*kept, "--by", "review", "--how", "list", cwd=walk)
        self.assertRegex(done.stdout, r"not reviewed +35")
        done = dotledger(*kept, "--crops", "--kinds", "face", cwd=walk)
        self.assertIn("new files, 0 there already", done.stdout)
        for wrong in (("--by", "verdict"), ("--similarity", 1), ("--margin", 1), ("--crops", "--by", "person")):  # fmt: skip
            self.assertEqual(dotledger(*kept, *wrong, cwd=walk).returncode, 2)
        alone = dotledger(*words, "--least", 0.5, cwd=walk)
        self.assertIn("goes with --strongest", alone.stderr)


class Persons(unittest.TestCase):
    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        rows = [("a.png", "face", "face", 0.9, (10, 10, 30, 40)), ("a.png", "face", "face", 0.8, (50, 10, 70, 40)),
                ("b.png", "face", "face", 0.7, (0, 0, 9, 9)), ("c.png", "face", "", None, None)]  # fmt: skip
        who = [
            {"name": "Old  Reed", "similarity": 0.95},
            {"name": "old reed", "similarity": 0.6},
            None,
            None,
        ]
        self.found = replace(
            findings_of(rows),
            details=tuple(one and Details(attributes={"name": one}) for one in who),
        )

    def test_places(self):
        """Letter case and spaces apart; an unlikely name is none; nobody is a place of its own."""
        got = places_by_person(self.found)
        self.assertEqual(
            {n: [p for p, _ in places] for n, places in got.items()},
            {"a.png": ["Old Reed"], "b.png": ["nobody named"], "c.png": ["nothing found"]},
        )
        strict = places_by_person(self.found, least_similarity=0.9)
        self.assertEqual(strict["a.png"], [("Old Reed", "similarity 0.95"), ("nobody named", "")])
        self.assertEqual(places_by_outcome({"x": {"face": "found", "label": "failed"}, "y": {"face": "empty"}, "z": {}}), {
            "x": [("failed", "face found, label failed")], "y": [("empty", "face empty")], "z": [("pending", "")],
        })  # fmt: skip

    def test_in_rules(self):
        """Wanted or other than allowed; a face without a name is other than anybody."""

        def blocked(**asked):
            rules = Rules(
                rules=(Rule(name="r", verdict="block", when=Condition(kind="face", **asked)),)
            )
            return "".join(v.image[0] for v in decide(self.found, rules) if v.verdict == "block")

        self.assertEqual(blocked(persons=("OLD reed",)), "a")
        self.assertEqual(blocked(persons=("old reed",), least_similarity=0.99), "")
        self.assertEqual(blocked(other_than=("Old Reed",)), "b")
        self.assertEqual(blocked(other_than=("Old Reed",), least_similarity=0.9), "ab")
        (self.home / "wanted.txt").write_text("# people\nold reed\n\n")
        path = self.home / "r.toml"
        path.write_text(
            'rules_file = 1\n[[rule]]\nverdict = "block"\nkind = "face"\nperson = "wanted.txt"\n'
        )
        reasons = decide(self.found, read_rules(path)).of("a.png").reasons
        self.assertEqual(reasons, ("block, face (1): face Old  Reed 0.90, face old reed 0.80",))

    def test_crops(self):
        """Every finding with its margin, in its label's folder, named by image and row."""
        images = {
            n: encoded(noise(seed=k, size=(80, 60)))
            for k, n in enumerate(("a.png", "b.png", "d.png"))
        }
        done = list(crop_findings(gather(images), self.found, self.home / "out", margin=0.5))
        self.assertEqual([(o.path.relative_to(self.home / "out").as_posix(), o.state) for o in done], [
            ("face/a.png.1.png", "new"), ("face/a.png.2.png", "new"), ("face/b.png.1.png", "new"),
        ])  # fmt: skip
        cut = Image.open(done[0].path)
        whole = Image.open(io.BytesIO(images["a.png"])).crop((0, 0, 40, 55))
        self.assertEqual((cut.size, cut.tobytes()), (whole.size, whole.tobytes()))
        again = crop_findings(
            gather(images), self.found, self.home / "out", margin=0.5, shas={"a.png": "0"}
        )
        self.assertEqual([(o.image, o.state) for o in again], [
            ("a.png", "changed since it was sent: its boxes would lie elsewhere"), ("b.png", "there already"),
        ])  # fmt: skip
        with self.assertRaisesRegex(ArgumentError, "0 to 5"):
            list(crop_findings(gather(images), self.found, self.home / "out", margin=-1))
