"""Reading stored answers again: next to the old reading, nothing sent, nothing lost."""

from base64 import b64decode

from dotledger import findings_of
from dotledger.api.rereading import reread
from dotledger.core.tables.label_name_mapping import NameMap
from dotledger.json_codec import from_json
from dotledger.ledger.batch_queries import find_batch, readings
from dotledger.ledger.finding_queries import load_findings, notes_of
from dotledger.services.service_description import stored_description
from dotledger.testing import Request, Response
from tests.sending.helpers import ANSWER, InFolder, description, number_of, pictures


class Rereading(InFolder):
    def replies(self, request):
        number = number_of(request)
        return [
            ANSWER,
            {"tags": [], "things": [{"name": "x", "sure": 87, "box": [1, 1, 3, 3]}]},
            {"tags": [], "things": []},
        ][number]

    def test_an_edited_description(self):
        """A corrected scale finds what was set aside; old and new stand side by side."""
        self.send(pictures(3), self.replies)
        ledger = self.ledger()
        batch = find_batch(ledger)
        self.assertEqual(
            [r for _, r, _ in notes_of(ledger, batch)], ["confidence outside its scale"]
        )
        edited = description(
            ('confidence = { at = "sure" }', 'confidence = { at = "sure", scale = "percent" }')
        )
        result = reread(ledger, batch, edited, about="percent", now=2e9)
        self.assertEqual((result.answers, result.unreadable, result.same), (3, 0, 1))
        self.assertEqual(
            [(d.state, d.image, d.label, round(d.confidence, 3)) for d in result.differences],
            [
                ("was", "p-0.jpg", "bell", 0.9),
                ("is", "p-0.jpg", "bell", 0.009),
                ("is", "p-1.jpg", "x", 0.87),
            ],
        )
        self.assertEqual(len(findings_of(ledger, kinds=["object"])), 3)
        self.assertEqual(load_findings(ledger, batch).label.used().count("x"), 0)
        self.assertEqual(
            [about for _, _, about in readings(ledger, batch)], ["made while sending", "percent"]
        )

    def test_the_same_description_changes_nothing(self):
        """Reading again by the description kept with the batch gives the same findings."""
        self.send(pictures(3), self.replies)
        ledger = self.ledger()
        batch = find_batch(ledger)
        result = reread(ledger, batch, stored_description(batch.description), now=2e9)
        self.assertEqual((result.same, result.differences), (2, []))
        again = load_findings(ledger, find_batch(ledger))
        self.assertEqual(len(again), len(load_findings(ledger, batch)))

    def test_unread_answers_to_several_images(self):
        """What was paid for and could not be read is read by a mended description, each its part."""
        several = (
            'path = "/look"',
            'path = "/look"\nbody = "json"\nimages = 3\nimage_field = "all"\n'
            'each = { n = "{id}", data = "{image}" }',
        )

        def reply(request):
            entries = from_json(request.body)["all"]
            names = [
                str(number_of(Request(method="", address="", body=b64decode(e["data"]))))
                for e in entries
            ]
            return {"parts": [{"tags": [{"name": name}], "things": []} for name in names]}

        images = pictures(7)
        images["twin.jpg"] = images["p-1.jpg"]
        wrong = description(several, ("[[read]]", '[envelope]\nimages = "pieces[]"\n[[read]]'))
        right = description(several, ("[[read]]", '[envelope]\nimages = "parts[]"\n[[read]]'))
        sent, _ = self.send(images, reply, wrong)
        self.assertEqual((sent.outcomes["label"]["unread"], sent.unread), (8, 8))
        ledger = self.ledger()
        result = reread(ledger, find_batch(ledger), right, now=2e9)
        self.assertEqual((result.answers, result.unreadable), (8, 0))
        found = findings_of(ledger, kinds=["label"])
        read = dict(zip(found.image.values(), found.label.values(), strict=True))
        self.assertEqual(read, {**{f"p-{n}.jpg": str(n) for n in range(7)}, "twin.jpg": "1"})

    def test_names_and_unread_answers(self):
        """A mapping renames and leaves out; an answer unreadable at first is read if it can be."""
        page = Response(status=200, headers={}, body=b"<html>")
        self.send(pictures(2), lambda r: ANSWER if number_of(r) else page)
        ledger = self.ledger()
        names = NameMap(names={("bell", "", "bell"): "gong", ("", "", "night"): ""})
        result = reread(ledger, find_batch(ledger), description(), names=names, now=2e9)
        self.assertEqual((result.answers, result.unreadable), (2, 1))
        self.assertEqual(set(findings_of(ledger).label.used()), {"", "gong"})
