"""Asking people: a blind sheet, the answers as a run, measured on what was asked and nothing else."""

import csv
import unittest

from dotledger import Ledger, compare, findings_of, measure
from dotledger.acting.reviewing.people_answers import keep_answers
from dotledger.acting.reviewing.question_sheet import (
    questions_given,
    read_question_sheet,
    write_question_sheet,
)
from dotledger.api.rereading import reread
from dotledger.errors import ArgumentError, TableError
from dotledger.ledger.batch_queries import find_batch, sent_images
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.services.service_description import stored_description
from tests.cli.test_messages import called
from tests.core.measurement.test_measure import annotations_of
from tests.sending.helpers import InFolder, number_of, picture, pictures

ASKED = {"label": ("night", "moon"), "unsafe": ("smoke",)}


def lights(request):
    """Night everywhere, the moon on even pictures."""
    moon = [{"name": "moon"}] if number_of(request) % 2 == 0 else []
    return {"tags": [{"name": "night"}, *moon], "things": []}


class Sheet(InFolder):
    def setUp(self):
        super().setUp()
        self.send({**pictures(8), "small.jpg": picture(9, (4, 4))}, lights)
        self.sheet = self.folder / "anna.csv"

    def write(self, seed="anna", asked=ASKED):
        with LedgerStore(self.path) as ledger:
            return write_question_sheet(
                ledger, find_batch(ledger, batch=1), asked, self.sheet, seed=seed
            )

    def rows(self):
        with self.sheet.open(encoding="utf-8", newline="") as file:
            return list(csv.DictReader(file))

    def fill(self, word):
        """Fill the sheet in by (image, column) -> word."""
        rows = self.rows()
        for row in rows:
            row.update({c: word(row["image"], c) for c in row if ": " in c})
        with self.sheet.open("w", encoding="utf-8", newline="") as file:
            writer = csv.DictWriter(file, rows[0])
            writer.writeheader()
            writer.writerows(rows)

    def keep(self, who="Anna K."):
        with LedgerStore(self.path) as ledger:
            batch = find_batch(ledger, batch=1)
            names = [one.name for one in sent_images(ledger, batch)]
            sheet = read_question_sheet(self.sheet, names)
            return sheet, keep_answers(ledger, batch, sheet, who=who, now=1.8e9)

    def test_blind_and_drawn(self):
        """No finding stands in it; refused images are asked about too; each person has an own order."""
        self.assertEqual(self.write(), 9)
        rows = self.rows()
        self.assertEqual(
            list(rows[0]),
            ["number", "image", "file", "label: night", "label: moon", "unsafe: smoke"],
        )
        self.assertEqual({row[c] for row in rows for c in row if ": " in c}, {""})
        orders = []
        for seed in ("anna", "anna", "ben"):
            self.write(seed)
            orders.append([row["image"] for row in self.rows()])
        self.assertEqual(orders[0], orders[1])
        self.assertNotEqual(orders[0], orders[2])
        self.assertNotEqual(orders[0], sorted(orders[0]))

    def answered(self):
        self.write()

        def word(image, column):
            if image == "p-7.jpg":
                return ""
            if image == "p-6.jpg":
                return "" if column == "unsafe: smoke" else "No"
            if (image, column) == ("p-0.jpg", "label: moon"):
                return "unsure"
            return " YES " if column == "label: night" else "no"

        self.fill(word)
        return self.keep()

    def test_answers_are_a_run(self):
        """Kept like a service's: read, read again, measured on what was asked, compared, agreed."""
        sheet, number = self.answered()
        self.assertEqual((sheet.partly, sheet.empty), (("p-6.jpg",), ("p-7.jpg",)))
        found = findings_of(self.path, batch=number)
        self.assertEqual(found.origin.service, "anna-k")
        shown = {
            (i, n): c
            for i, n, c in zip(found.image.values(), found.label.values(), found.confidence)
            if n
        }
        self.assertEqual(shown.pop(("p-0.jpg", "moon")), 0.5)
        names = [*(f"p-{n}.jpg" for n in range(6)), "small.jpg"]
        self.assertEqual(shown, {(name, "night"): 1.0 for name in names})
        with LedgerStore(self.path) as ledger:
            batch = find_batch(ledger, batch=number)
            anew = reread(ledger, batch, stored_description(batch.description), now=2e9)
        self.assertEqual((anew.answers, anew.differences, anew.suspicions), (7, [], []))
        true = annotations_of(
            [(f"p-{n}.jpg", "label", x, None, False) for n in range(8) for x in ("night", "path")]
        )
        result = measure(found, true, draws=0)
        # "path" was not asked: it is nobody's miss. Two images have no answer.
        self.assertEqual(list(result.kinds["label"].rows), ["moon", "night"])
        self.assertEqual(result.kinds["label"].rows["night"].recall, 1)
        self.assertTrue(any("Only what was asked" in note for note in result.notes))
        service = findings_of(self.path, batch=1)
        two = compare(service, found, annotations=true, draws=20).to_dict()
        self.assertEqual(two["pooled"]["recall"]["second"], 1.0)
        agreed = compare(service, found, kinds=["label"]).to_dict()["pairs"][0]["kinds"][0]
        # Of six images and two labels: night on all, moon named by the service on 0, 2, 4.
        counts = [agreed[n] for n in ("both", "first_only", "second_only", "neither")]
        self.assertEqual(counts, [7, 2, 0, 3])
        self.assertAlmostEqual(agreed["kappa"], (10 / 12 - (9 * 7 + 3 * 5) / 144) / (1 - 78 / 144))
        low, high = agreed["kappa_interval"]
        self.assertTrue(low < agreed["kappa"] < high)

    def test_cost_and_calls(self):
        """They cost nothing, and are not taken for a call of the service."""
        before = self.usage()
        self.answered()
        after = {one.service: (one.calls, one.money) for one in self.usage()}
        self.assertEqual({n: v for n, v in after.items() if n != "anna-k"}, before_of(before))
        self.assertEqual(after.get("anna-k", (0, 0))[1], 0)

    def usage(self):
        with Ledger(self.path) as ledger:
            return ledger.usage()

    def test_refused(self):
        """A wrong word, a near-miss image, a row twice, kept twice, nobody's name, another sheet."""
        self.answered()
        with self.assertRaisesRegex(ArgumentError, "in the ledger already.*batch 2"):
            self.keep()
        with self.assertRaisesRegex(ArgumentError, "begins with a letter"):
            self.keep("葦")
        whole = self.sheet.read_text()
        for change, words in (
            (
                ("unsure", "perhaps"),
                "row .*column label: moon: no answer; got 'perhaps'; allowed: yes, unsure, no",
            ),
            (("p-3.jpg", "p-33.jpg"), "no image of the batch; got 'p-33.jpg'; allowed: p-3"),
            (("p-3.jpg", "p-4.jpg"), "is in the sheet twice"),
            (("unsafe: smoke", "note"), None),
        ):
            self.sheet.write_text(whole.replace(*change, 1))
            if words is None:
                sheet, _ = self.keep("Other")
                self.assertEqual(sheet.questions, {"label": ("night", "moon")})
                self.assertEqual(sheet.others, ("note",))
                continue
            with self.subTest(words), self.assertRaisesRegex(TableError, words):
                self.keep()
        self.sheet.write_text("image,remark\np-1.jpg,yes\n")
        with self.assertRaisesRegex(TableError, "no question in this sheet.*remark"):
            self.keep()
        self.sheet.write_text("picture,label: night\na,yes\n")
        with self.assertRaisesRegex(TableError, "no column 'image'"):
            self.keep()
        for text in ("face:face", "label:", "label:a,a", "label:a|b", "nothing"):
            with self.subTest(text), self.assertRaises(ArgumentError):
                questions_given([text])

    def test_command(self):
        """Out, filled in, back in; a blank sheet is refused, and rules do not go with it."""
        here = ["--ledger", str(self.path), "--who", "Ben", "--service", "bell"]
        sheet = str(self.sheet)
        status, _, err = called("review", *here, "--ask", "label:night,moon", "--out", sheet)
        self.assertEqual(status, 0, err)
        status, _, err = called("review", *here, "--in", sheet)
        self.assertEqual(status, 2)
        self.assertIn("no image was answered", err)
        self.fill(lambda image, column: "yes" if image != "p-1.jpg" else "")
        status, out, err = called("review", *here, "--in", sheet)
        self.assertEqual((status, out), (0, "Answers of Ben about 8 images are batch 2.\n"))
        self.assertIn("1 image left out, no column is filled in: p-1.jpg", err)
        status, _, err = called("review", *here, "--ask", "label:night")
        self.assertIn("--ask goes with --out FILE", err)
        status, _, err = called("review", "rules.toml", *here, "--in", sheet)
        self.assertIn("takes no RULES", err)


def before_of(months):
    return {one.service: (one.calls, one.money) for one in months}


if __name__ == "__main__":
    unittest.main()
