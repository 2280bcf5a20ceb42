"""Sorting: who goes where and why, safe names, and that a second run adds nothing."""

import csv
import tempfile
import unittest
from pathlib import Path

from dotledger.acting.places import places_by_label, places_by_verdict
from dotledger.acting.sorting import sort_images
from dotledger.core.deciding.conditions import Condition, Rule, Rules
from dotledger.core.deciding.decide import decide
from dotledger.errors import ArgumentError
from dotledger.images.gather import gather
from tests.acting.test_cover import encoded, noise
from tests.cli.test_commands import dotledger
from tests.core.measuring.test_measure import findings_of

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
        self.assertEqual([strong[f"{n}.png"][0][0] for n in "abcd"], ["undecided", "undecided", "nothing found", "hat"])  # fmt: skip
        self.assertEqual(places_by_label(FOUND, strongest=True)["a.png"], [("cup", "0.90")])

    def test_by_verdict(self):
        """One place each, with the reasons."""
        rules = Rules(rules=(Rule(name="cups", verdict="hold", when=Condition(kind="object", labels=("cup",), confidence=0.5)),))  # fmt: skip
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
        self.images = {"a/x.png": encoded(noise(seed=1)), "a--x.png": encoded(noise(seed=2)), "../up.png": encoded(noise(seed=3))}  # fmt: skip
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
        self.assertEqual([o.state for o in sort_images(gather(self.images), places, listed, how="list")], ["listed"] * 3)  # fmt: skip
        self.assertFalse(listed.exists())
        with self.assertRaisesRegex(ArgumentError, "copy"):
            self.sort(places, how="move")

    def test_command(self):
        """Folders, a manifest with reasons, and a second run that adds nothing."""
        self.assertEqual(dotledger("demo", "--folder", self.home / "walk").returncode, 0)
        walk = self.home / "walk"
        words = ("sort", "images", "--findings", "flint.csv", "--kind", "object", "--out", "sorted", "--threshold", 0.5)  # fmt: skip
        first, second = dotledger(*words, cwd=walk), dotledger(*words, cwd=walk)
        self.assertEqual(first.returncode, 0, first.stderr)
        self.assertIn("52 new files, 0 there already", first.stdout)
        self.assertIn("0 new files, 52 there already", second.stdout)
        with (walk / "sorted" / "sorted.csv").open() as file:
            rows = list(csv.DictReader(file))
        self.assertEqual(len(rows), 52)
        self.assertEqual({r["place"] for r in rows if r["image"] in ("damaged-01.jpg", "tiny-01.png")}, {"no answer"})  # fmt: skip
        alone = dotledger(*words, "--least", 0.5, cwd=walk)
        self.assertIn("goes with --strongest", alone.stderr)
