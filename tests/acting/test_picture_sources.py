"""Pictures that were made from images go where the image goes, and a crop by what it shows."""

import csv
import json
import tempfile
import unittest
from pathlib import Path

from PIL import Image

from dotledger.acting.picture_sources import picture_sources
from dotledger.images.image_gathering import gather
from tests.forked import dotledger

FACES = (("Old Reed", (10, 10, 40, 40)), ("Sedge", (60, 10, 90, 40)))


class Sources(unittest.TestCase):
    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        rows = []
        for name in ("a.png", "b.png"):
            Image.new("RGB", (100, 60), (30, 30, 60)).save(self.home / name)
        for image, mine in (("a.png", FACES), ("b.png", FACES[1:])):
            for person, box in mine:
                details = {"attributes": {"name": {"name": person, "similarity": 0.9}}}
                sides = dict(zip(("x0", "y0", "x1", "y1"), box))
                rows.append({"image": image, "kind": "face", "label": "face", "confidence": 0.9, **sides, "details": details})  # fmt: skip
        (self.home / "found.jsonl").write_text("\n".join(map(json.dumps, rows)))

    def run_here(self, *words, status=0):
        done = dotledger(*words, cwd=self.home)
        self.assertEqual(done.returncode, status, done.stderr)
        return done

    def sorted_into(self, source, out, *more):
        """Return by folder the files that sorting by person puts there."""
        done = self.run_here("sort", source, "--findings", "found.jsonl", "--by", "person", "--out", out, *more)  # fmt: skip
        folders = {p.name: sorted(f.name for f in p.iterdir()) for p in (self.home / out).iterdir() if p.is_dir()}  # fmt: skip
        return folders, done

    def test_annotated_copies(self):
        """They go where their images go, by the list beside them; without it, by their names."""
        self.run_here("draw", ".", "--findings", "found.jsonl", "--out", "drawn")
        wanted = {"Old-Reed": ["a.png.png"], "Sedge": ["a.png.png", "b.png.png"], "no-answer": ["contact-sheet.png"]}  # fmt: skip
        folders, done = self.sorted_into("drawn", "out")
        self.assertEqual(folders, wanted)
        self.assertIn(
            "2 pictures go with their original images: 2 listed in drawn.csv", done.stderr
        )
        (self.home / "drawn" / "drawn.csv").unlink()
        folders, done = self.sorted_into("drawn", "out-2")
        self.assertEqual(folders, wanted)
        self.assertIn("2 recognised by name", done.stderr)

    def test_covered_copies(self):
        """A covered copy keeps its image's name."""
        self.run_here("cover", "a.png", "b.png", "--findings", "found.jsonl", "--out", "covered")
        folders, _ = self.sorted_into("covered", "out")
        self.assertEqual(folders, {"Old-Reed": ["a.png"], "Sedge": ["a.png", "b.png"]})

    def test_crops(self):
        """A crop goes by the person on it, not by everybody on its image; renamed, by its image."""
        self.run_here("sort", "a.png", "b.png", "--findings", "found.jsonl", "--crops", "--out", "crops")  # fmt: skip
        folders, done = self.sorted_into("crops/face", "out")
        self.assertEqual(folders, {"Old-Reed": ["a.png.1.png"], "Sedge": ["a.png.2.png", "b.png.1.png"]})  # fmt: skip
        self.assertIn("3 crops by the one finding shown", done.stderr)
        (self.home / "crops" / "sorted.csv").unlink()
        folders, done = self.sorted_into("crops/face", "out-2")
        self.assertEqual(folders["Old-Reed"], ["a.png.1.png", "a.png.2.png"])
        self.assertIn("3 recognised by name", done.stderr)

    def test_a_crop_whose_finding_is_gone(self):
        """It goes to nobody: that its image shows two persons does not make it one of them."""
        self.run_here("sort", "a.png", "--findings", "found.jsonl", "--crops", "--out", "crops")
        rows = (self.home / "found.jsonl").read_text().splitlines()
        (self.home / "found.jsonl").write_text("\n".join(rows[1:]))
        folders, _ = self.sorted_into("crops/face", "out")
        self.assertEqual(folders, {"no-answer": ["a.png.1.png"], "Sedge": ["a.png.2.png"]})
        listed = (self.home / "out" / "sorted.csv").read_text()
        self.assertIn("the finding that it shows is not there any more", listed)

    def test_drawn_into_folders(self):
        """One command: copies with writing in folders by name; a second run adds nothing."""
        more = ("--drawn", "--write", "{person}")
        folders, _ = self.sorted_into("a.png", "out", *more)
        self.assertEqual(folders, {"Old-Reed": ["a.png.png"], "Sedge": ["a.png.png"]})
        drawn = Image.open(self.home / "out" / "Sedge" / "a.png.png")
        self.assertNotEqual(drawn.tobytes(), Image.open(self.home / "a.png").tobytes())
        _, done = self.sorted_into("a.png", "out", *more)
        self.assertIn("0 new files, 2 there already", done.stdout)
        for words, message in (
            (("--write", "{person}"), "--write goes with --drawn"),
            (("--drawn", "--how", "link"), "makes copies of whole images"),
            (("--drawn", "--write", "{shoe}"), "no finding has a field 'shoe'"),
        ):
            done = self.run_here("sort", "a.png", "--findings", "found.jsonl", "--out", "o", *words, status=2)  # fmt: skip
            self.assertIn(message, done.stderr)

    def test_a_wrong_list(self):
        """A list that names an image nobody knows, or is none, is passed over."""
        self.run_here("draw", ".", "--findings", "found.jsonl", "--out", "drawn")
        listed = self.home / "drawn" / "drawn.csv"
        with listed.open(newline="") as file:
            self.assertEqual([row["image"] for row in csv.DictReader(file)], ["a.png", "b.png"])
        listed.write_text("picture,image\na.png.png,elsewhere.png\n")
        found = picture_sources(gather(self.home / "drawn").items, ["a.png", "b.png"])
        self.assertEqual({n: (s.image, s.listed) for n, s in found.items()}, {"b.png.png": ("b.png", False)})  # fmt: skip
        listed.write_bytes(b"\xff\xfe\x00")
        found = picture_sources(gather(self.home / "drawn").items, ["a.png", "b.png"])
        self.assertEqual({n: s.image for n, s in found.items()}, {"a.png.png": "a.png", "b.png.png": "b.png"})  # fmt: skip


if __name__ == "__main__":
    unittest.main()
