"""Covering many images: copies next to the originals, and what stops none of the others."""

import hashlib
import tempfile
import unittest
from pathlib import Path

import numpy as np

from dotledger import open_service, write_table
from dotledger.acting.folder_covering import cover_all, still_found
from dotledger.images.image_gathering import Gathered, gather
from dotledger.standins.demo_scenes import RECIPES, draw_scene
from dotledger.standins.evening_demo import pointed_text, running
from tests.acting.test_face_covering import encoded, noise
from tests.core.measurement.test_measure import annotations_of, findings_of
from tests.forked import dotledger
from tests.walk import walk_in

BOX = (20, 30, 40, 50)


class Many(unittest.TestCase):
    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.images = {f"{name}.png": encoded(noise(seed=n)) for n, name in enumerate("abcd")}
        self.found = findings_of([("a.png", "face", "face", 0.9, BOX), ("b.png", "face", "", None, None),
                                  ("c.png", "face", "face", 0.9, BOX)])  # fmt: skip

    def cover(self, **options):
        return {
            one.name: one
            for one in cover_all(gather(self.images), self.found, self.home / "out", **options)
        }

    def test_copies(self):
        """Covered, the same bytes, or not written: without an answer nobody knows."""
        done = self.cover()
        self.assertEqual([done[f"{n}.png"].covered for n in "abcd"], [1, 0, 1, 0])
        self.assertEqual(done["b.png"].path.read_bytes(), self.images["b.png"])
        self.assertEqual((done["d.png"].path, done["d.png"].problem), (None, "no answer for face"))
        self.assertFalse((self.home / "out" / "d.png").exists())

    def test_left_open_and_changed(self):
        """What the annotations hold and no cover hides; an image that changed is refused."""
        true = annotations_of(
            [("a.png", "face", "face", BOX, False), ("b.png", "face", "face", BOX, False)]
        )
        shas = {name: hashlib.sha256(data).hexdigest() for name, data in self.images.items()}
        done = self.cover(annotations=true, shas={**shas, "c.png": "0" * 64})
        self.assertEqual(done["a.png"].left_open, ())
        self.assertEqual(done["b.png"].left_open, (("face", BOX, 0.0),))
        self.assertIn("changed since it was sent", done["c.png"].problem)
        self.assertFalse((self.home / "out" / "c.png").exists())

    def test_a_certificate_is_true_or_not_given(self):
        """That every face is covered is said where it is known; else, that nobody can tell."""
        for name, data in self.images.items():
            (self.home / "in").mkdir(exist_ok=True)
            (self.home / "in" / name).write_bytes(data)
        write_table(
            findings_of([("a.png", "face", "face", 0.9, BOX), ("b.png", "face", "face", 0.3, BOX)]),
            self.home / "f.csv",
        )
        every = "Every annotated face in these copies is covered"
        head = "image,kind,label,x0,y0,x1,y1,ignore\n"
        box = "20,30,40,50"
        for number, (rows, threshold, status, wanted, unwanted) in enumerate((
            (f"a.png,face,face,{box},0\nb.png,face,face,{box},0\n", None, 0, f"{every}: 2 faces in 2 images", "Cannot tell"),
            # Named by another folder, and an open face.
            (f"x/in/a.png,face,face,{box},0\nx/in/b.png,face,face,60,60,70,70,0\n", None, 1, "Left open: 1 face", every),
            (f"a.png,face,face,{box},0\nother/b2.png,face,face,{box},0\n", None, 1, "Cannot tell for 1 image .in/b.png.", f"{every}."),
            ("a.png,label,night,,,,,0\nb.png,label,night,,,,,0\n", None, 1, "Cannot tell for 2 images", every),
            ("a.png,face,,,,,,0\nb.png,face,,,,,,0\n", None, 1, "Cannot tell: no face is annotated", every),
            (f"a.png,face,face,{box},0\nb.png,face,face,{box},0\n", "0.5", 1, "Left open by the threshold: 1 face found below it", every),
        )):  # fmt: skip
            (self.home / "t.csv").write_text(head + rows)
            words = [
                "cover",
                "in/a.png",
                "in/b.png",
                "--findings",
                "f.csv",
                "--out",
                f"o{number}",
                "--annotations",
                "t.csv",
            ]
            done = dotledger(
                *words, *(["--threshold", threshold] if threshold else []), cwd=self.home
            )
            self.assertRegex(done.stdout, wanted, (rows, done.stderr))
            self.assertNotIn(unwanted, done.stdout, rows)
            self.assertEqual(done.returncode, status, (rows, done.stdout))
            if "b2" in rows:
                self.assertRegex(done.stderr, "none of the images given: 1 image .other/b2.png")

    def test_names_and_broken_files(self):
        """Names never lead out of the folder; one broken image stops none."""
        self.images = {"../../x.png": self.images["a.png"], "y.png": self.images["a.png"][:300]}
        self.found = findings_of([(name, "face", "face", 0.9, BOX) for name in self.images])
        done = self.cover()
        self.assertEqual(done["../../x.png"].path, self.home / "out" / "x.png")
        self.assertIn("damaged", done["y.png"].problem)
        self.assertEqual([p.name for p in self.home.rglob("*.png")], ["x.png"])
        empty = Gathered(items=(), problems=(), source="")
        self.assertEqual(list(cover_all(empty, self.found, self.home)), [])


class AskedAgain(unittest.TestCase):
    def test_still_found(self):
        """A simulated service sees no face under a cover, and still sees one that was left open."""
        home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        scene = next(r for r in RECIPES if r.name == "crowd-01.jpg")
        data = draw_scene(scene).data
        (home / "in").mkdir()
        (home / "in" / scene.name).write_bytes(data)
        with running("marl") as up:
            marl = up.service
            (home / "marl.toml").write_text(pointed_text(up))
            with open_service(home / "marl.toml", kinds="face", key=marl.key) as service:
                found = service.look(home / "in" / scene.name).findings
                every = found.by_confidence()
                boxes = int((~every.blank).sum())
                self.assertGreater(boxes, 3)
                for kept, wanted in ((every, 0), (every.take(np.arange(boxes) > 0), 1)):
                    done = list(cover_all(gather(home / "in"), kept, home / f"out-{wanted}"))
                    [still] = still_found(done, service.look)
                    self.assertEqual((len(still.seen), still.problem), (wanted, ""))
                self.assertEqual(still.seen[0][2], "elsewhere")
            write_table(every, home / "all.csv")
            words = ("cover", "in", "--findings", "all.csv", "--out", "o", "--check", "marl.toml")
            asked = dotledger(*words, cwd=home, env={"MARL_CLIENT": marl.key})
            self.assertEqual(asked.returncode, 0, asked.stderr)
            self.assertIn("Asked again about 1 covered image: no face is found.", asked.stdout)
        refused = dotledger(*words, "--replace", cwd=home, env={"MARL_CLIENT": "no:such"})
        self.assertEqual(refused.returncode, 3, refused.stdout)
        self.assertIn("not asked again: crowd-01.jpg", refused.stderr)


class Command(unittest.TestCase):
    def test_on_the_walk(self):
        """The originals stay; open faces are listed with status 1; all covered is said."""
        home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        walk, _ = walk_in(home)
        before = {p: p.read_bytes() for p in (walk / "images").rglob("*.*")}
        words = ("cover", "images", "--out", "hidden", "--annotations", "annotations.csv")
        done = dotledger(*words, "--ledger", "walk.ledger", "--service", "marl", cwd=walk)
        self.assertEqual(done.returncode, 3, done.stderr)
        self.assertIn(
            "42 faces covered in 17 images; 16 images without any, the same bytes.", done.stdout
        )
        self.assertIn(
            "Every annotated face in these copies is covered: 42 faces in 17 images.", done.stdout
        )
        self.assertIn("not covered: tiny-01.png: no answer for face", done.stderr)
        again = dotledger(*words, "--findings", "flint.csv", cwd=walk)
        self.assertIn("--replace", again.stderr)
        blind = dotledger(
            *words, "--findings", "flint.csv", "--replace", "--style", "blocks", cwd=walk
        )
        self.assertEqual(blind.returncode, 1)
        self.assertIn("Left open: 19 faces.", blind.stdout)
        self.assertEqual({p: p.read_bytes() for p in before}, before)
        (walk / "images" / "walk-01.jpg").write_bytes(before[walk / "images" / "walk-02.jpg"])
        changed = dotledger(
            *words, "--ledger", "walk.ledger", "--service", "marl", "--replace", cwd=walk
        )
        self.assertIn("walk-01.jpg: changed since it was sent", changed.stderr)
