"""Names onto the user's vocabulary, repeats merged."""

import tempfile
import unittest
from pathlib import Path

from dotledger.core.tables.duplicate_merging import merge_repeats
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.label_name_mapping import NameMap, map_names
from dotledger.errors import ArgumentError, TableError
from dotledger.formats.label_name_files import read_names, write_skos
from tests.core.measurement.test_measure import findings_of


class Names(unittest.TestCase):
    SAID = findings_of(
        [
            ("a", "label", "Paper Lantern", 0.9, None),
            ("a", "object", "Paper Lantern", 0.8, (0, 0, 4, 4)),
            ("b", "label", "dusk", 0.9, None),
            ("b", "object", "bannner", 0.7, (0, 0, 4, 4)),
        ]
    )

    def test_mapping(self):
        """The most particular entry counts; left-out labels leave a blank row; the rest is listed."""
        names = NameMap(
            names={
                ("", "", "Paper Lantern"): "lantern",
                ("m", "object", "Paper Lantern"): "lamp",
                ("", "", "dusk"): "",
                ("", "", "banner"): "flag",
                ("n", "", "only another service's"): "x",
            }
        )
        mapped = map_names(self.SAID, names, service="m")
        self.assertEqual(mapped.unused, [("", "banner", "bannner")])
        self.assertEqual(sorted(mapped.findings.label.values()), ["", "bannner", "lamp", "lantern"])
        self.assertEqual(
            (mapped.left_out, mapped.unmapped), (1, [("object", "bannner", 1, "banner")])
        )
        self.assertIn("b", mapped.findings.image.take(mapped.findings.blank).used())
        self.assertEqual(len(map_names(Findings.empty(), names).findings), 0)

    def test_files(self):
        """CSV, TOML and SKOS give the same mapping; mistakes are named."""
        with tempfile.TemporaryDirectory() as home:
            folder = Path(home)
            (folder / "n.csv").write_text(
                "label,becomes,broader\nPaper Lantern,lantern,light;glow\ndusk,,\n"
            )
            (folder / "n.toml").write_text(
                '[names]\n"Paper Lantern" = "lantern"\ndusk = ""\n[broader]\nlantern = ["light", "glow"]\n'
            )
            names = read_names(folder / "n.csv")
            self.assertEqual(names, read_names(folder / "n.toml"))
            for ending in ("ttl", "jsonld"):
                back = read_names(write_skos(names, folder / f"n.{ending}"))
                self.assertEqual(back.becomes("", "label", "Paper Lantern"), "lantern")
                self.assertEqual(set(back.broader["lantern"]), {"light", "glow"})
            for text, sign in (
                ("lable,becomes\n", "did you mean 'label'"),
                ("label,becomes\nx,y\nx,z\n", "line 3: the label is mapped twice"),
                ("label,becomes,kind\nx,y,thing\n", "line 2: unknown kind"),
            ):
                (folder / "bad.csv").write_text(text)
                with self.assertRaisesRegex(TableError, sign):
                    read_names(folder / "bad.csv")
            with self.assertRaisesRegex(TableError, "allowed: .csv, .toml"):
                read_names(folder / "n.txt")


class Merging(unittest.TestCase):
    def test_repeats(self):
        """The most confident stays; others of its label that overlap enough go into it."""
        said = findings_of(
            [
                ("a", "object", "x", 0.5, (0, 0, 10, 10)),
                ("a", "object", "x", 0.9, (0, 0, 10, 9)),
                ("a", "object", "y", 0.4, (0, 0, 10, 10)),
                ("a", "object", "x", 0.3, (50, 0, 60, 10)),
                ("b", "object", "x", 0.2, (0, 0, 10, 10)),
                ("a", "label", "x", 0.2, None),
            ]
        )
        kept, into = merge_repeats(said, overlap=0.8)
        self.assertEqual(into.tolist(), [1, 1, 2, 3, 4, 5])
        self.assertEqual(len(kept), 5)
        self.assertEqual(kept.details[0].notes, ("1 repeats merged",))
        self.assertEqual(len(merge_repeats(Findings.empty())[0]), 0)
        with self.assertRaises(ArgumentError):
            merge_repeats(said, overlap=0)
