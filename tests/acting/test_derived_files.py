"""Files made out of a ledger: rows and copies go, what cannot be changed is listed."""

import hashlib
import json
import tempfile
import unittest
from pathlib import Path

import dotledger
from dotledger import read_findings
from dotledger.acting.derived_files import derived_files
from dotledger.errors import GatherError
from dotledger.ledger.name_search import NamePattern
from tests.core.measurement.test_measure import findings_of

FOUND = [
    ("a.jpg", "face", "face", 0.9, (0, 0, 2, 2)),
    ("sub/a.jpg", "face", "face", 0.8, (0, 0, 2, 2)),
    ("b.jpg", "label", "a.jpg", 0.7, None),
]


class Files(unittest.TestCase):
    def setUp(self):
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def write(self, name, text):
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
        return path

    def clean(self, *names, person=False, act=True):
        pattern = NamePattern(names, files=not person)
        return derived_files([self.folder], names, pattern, person=person, act=act)

    def test_tables(self):
        """Rows of the image go from CSV, JSON Lines and Parquet; a label of that text stays."""
        for ending in ("csv", "jsonl", "parquet"):
            dotledger.write_table(findings_of(FOUND), self.folder / f"found.{ending}")
        plan = self.clean("a.jpg", act=False)
        self.assertEqual(len(read_findings(self.folder / "found.csv")), 3)
        done = self.clean("a.jpg")
        self.assertEqual(done, plan)
        self.assertEqual(sorted(done.rows.values()), [1, 1, 1])
        for ending in ("csv", "jsonl", "parquet"):
            left = read_findings(self.folder / f"found.{ending}")
            self.assertEqual(list(left.image.values()), ["sub/a.jpg", "b.jpg"], ending)

    def test_where_findings_come_from(self):
        """A cleaned table is still known by its origin; one that was changed by hand stays so."""
        text = "image,kind,label,confidence,x0,y0,x1,y1\na,label,x,1,,,,\nb,label,x,1,,,,\n"
        origin = {"service": "bell", "batch": 1, "reading": 1}
        for name, digest in (("own.csv", None), ("edited.csv", "0" * 64)):
            path = self.write(name, text)
            dotledger.write_table(read_findings(path), path)
            now = hashlib.sha256(path.read_bytes()).hexdigest()
            self.write(
                f"{name}.origin.json", json.dumps({"origin": origin, "sha256": digest or now})
            )
        self.clean("a")
        changed = [read_findings(self.folder / n).origin.changed for n in ("own.csv", "edited.csv")]
        self.assertEqual(changed, [False, True])

    def test_copies(self):
        """A copy that a list names goes with its row; the original of that name is only listed."""
        self.write("drawn/drawn.csv", "picture,image\na.png,a.jpg\nb.png,b.jpg\n../out.png,a.jpg\n")
        self.write(
            "sorted/sorted.csv",
            f"image,place,why,path\na.jpg,bell,x,{self.folder}/sorted/bell/a.jpg\n",
        )
        for name in ("drawn/a.png", "drawn/b.png", "sorted/bell/a.jpg", "images/a.jpg", "out.png"):
            self.write(name, "pixels")
        done = self.clean("a.jpg")
        there = sorted(str(p.relative_to(self.folder)) for p in self.folder.rglob("*.*g"))
        self.assertEqual(there, ["drawn/b.png", "images/a.jpg", "out.png"])
        self.assertEqual(done.held, (str(self.folder / "images/a.jpg"),))
        self.assertEqual(
            (self.folder / "drawn/drawn.csv").read_text(), "picture,image\nb.png,b.jpg\n"
        )

    def test_a_person(self):
        """All rows of the kind in that image go; the same name inside a longer one does not count."""
        rows = [
            {
                "image": "a",
                "kind": "face",
                "label": "face",
                "details": {"attributes": {"name": "Reed"}},
            },
            {"image": "a", "kind": "face", "label": "face"},
            {"image": "a", "kind": "label", "label": "night"},
            {
                "image": "b",
                "kind": "face",
                "label": "face",
                "details": {"attributes": {"name": "Reeds"}},
            },
        ]
        path = self.write("found.jsonl", "".join(json.dumps(row) + "\n" for row in rows))
        self.write("report.html", "<p>reed</p>")
        self.write("other.html", "<p>reeds</p>")
        done = derived_files([self.folder], ["a"], NamePattern(["Reed"]), person=True, act=True)
        self.assertEqual([json.loads(line) for line in path.read_text().splitlines()], rows[2:])
        self.assertEqual(done.held, (str(self.folder / "report.html"),))

    def test_whole_batches(self):
        """Rows of other batches, annotations, pictures of the same images stay, and are listed."""
        rows = "image,kind,label,confidence,x0,y0,x1,y1\na.jpg,label,x,1,,,,\n"
        for batch in (1, 2):
            path = self.write(f"of-{batch}.csv", rows)
            digest = hashlib.sha256(path.read_bytes()).hexdigest()
            origin = {"origin": {"service": "bell", "batch": batch}, "sha256": digest}
            self.write(f"of-{batch}.csv.origin.json", json.dumps(origin))
        self.write("annotations.csv", "image,kind,label\na.jpg,label,x\n")
        self.write("drawn/drawn.csv", "picture,image\na.png,a.jpg\n")
        self.write("drawn/a.png", "pixels")
        box = self.write(
            "box.jsonl", '{"image": "a.jpg", "batch": 1}\n{"image": "a.jpg", "batch": 2}\n'
        )
        pattern = NamePattern(["a.jpg"], files=True)
        done = derived_files([self.folder], ["a.jpg"], pattern, batches=[1], act=True)
        self.assertEqual({Path(one).name for one in done.rows}, {"of-1.csv", "box.jsonl"})
        self.assertEqual(box.read_text(), '{"image": "a.jpg", "batch": 2}\n')
        self.assertEqual((self.folder / "of-2.csv").read_text(), rows)
        self.assertTrue((self.folder / "drawn/a.png").exists())
        kept = {Path(one).name for one in done.held}
        self.assertEqual(kept, {"annotations.csv", "drawn.csv", "of-2.csv"})

    def test_what_cannot_be_read(self):
        """A damaged table is listed and stays; a place that is not there is refused."""
        self.write("bad.jsonl", '{"image": "a.jpg"\n')
        self.write("bad.parquet", "no parquet")
        done = self.clean("a.jpg")
        self.assertEqual(len(done.unread), 2)
        with self.assertRaisesRegex(GatherError, "no such file or folder.*nowhere"):
            derived_files([self.folder / "nowhere"], ["a"], NamePattern(["a.jpg"]))


if __name__ == "__main__":
    unittest.main()
