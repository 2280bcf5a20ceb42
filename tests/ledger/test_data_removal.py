"""Removing for good: rows, answers and bytes are gone, what it cost and all others stay."""

import os
import subprocess
import sys
import unittest
import zlib
from pathlib import Path
from unittest import mock

from sqlalchemy import select

import dotledger
from dotledger import Ledger, findings_of, forget
from dotledger.api.rereading import reread
from dotledger.core.decisions.human_decisions import Review
from dotledger.errors import ArgumentError, LedgerError
from dotledger.json_codec import from_json
from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.batch_queries import find_batch, outcome_counts, outcomes_of, sent_images
from dotledger.ledger.data_removal import is_unfinished
from dotledger.ledger.human_review_log import keep_reviews, reviews_of
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.sender_claims import FileClaim, claim_path
from tests.cli.test_messages import called
from tests.ledger.test_sender_claims import OPENING, waiting
from tests.sending.batch.test_batch_sending import Several as _Several
from tests.sending.helpers import InFolder, description, number_of, picture, pictures

FACES = (
    ('kinds = ["label", "object"]', 'kinds = ["label", "face"]'),
    ('kind = "object"\neach = "things[]"\nlabel = "name"', 'kind = "face"\neach = "things[]"\nalways = "face"\n'
     'attributes = { name = { at = "who", type = "person", similarity = "sim" } }'),
)  # fmt: skip
GUESTS = ["Old Reed", "old  reed", "Old Reedling", "", "Marsh Wren"]


def marked(request):
    """An answer with a word of each picture's own, by which it is searched."""
    mark = f"mark-{number_of(request)}-own"
    return {
        "tags": [{"name": mark}],
        "things": [{"name": "bell", "sure": 0.9, "box": [1, 1, 5, 5]}],
    }


def guests(request):
    """Faces named in turn; picture 3 names somebody whom no rule reads."""
    number = number_of(request)
    face = {"who": GUESTS[number], "sim": 0.8, "sure": 0.9, "box": [1, 1, 5, 5]}
    told = {"aside": "asked for by Old Reed"} if number == 3 else {}
    return {"tags": [{"name": "night"}], "things": [face], **told}


def held_by(path):
    """All bytes of a ledger, what is compressed in it unpacked."""
    data = b"".join(one.read_bytes() for one in path.parent.glob(path.name + "*"))
    with LedgerStore(path, create=False) as ledger, ledger.reading() as connection:
        stored = connection.execute(select(schema.calls.c.answer)).scalars()
        return data + b"".join(zlib.decompress(one) for one in stored if one)


def rows_of(where, **which):
    found = findings_of(where, **which)
    return sorted(zip(found.image.values(), found.kind.values(), found.label.values()))


def spoilt(path):
    """Write a name into a file between two letters, as it may lie in a free page."""
    with path.open("ab") as file:
        file.write(b"x11.jpgx" + bytes(4088))


class Removing(InFolder):
    def usage(self):
        with Ledger(self.path) as ledger:
            return ledger.usage()

    def sha_of(self, name):
        with LedgerStore(self.path) as ledger:
            return next(
                one.sha for one in sent_images(ledger, find_batch(ledger)) if one.name == name
            )

    def test_an_image(self):
        """Under all its names, in both batches: no name, digest or answer is left in the bytes."""
        images = {**pictures(4), "twin.jpg": picture(2)}
        self.send(images, marked)
        self.send(images, marked, round="second")
        before, paid = held_by(self.path), self.usage()
        self.assertIn(b"mark-2-own", before)
        digest = self.sha_of("p-2.jpg").encode()
        self.assertIn(digest, before)
        kept = [row for row in rows_of(self.path, batch=1) if row[0] in ("p-0.jpg", "p-1.jpg")]

        plan = forget(self.path, "p-2.jpg")
        self.assertEqual(plan.ledger.names, ("p-2.jpg", "twin.jpg"))
        self.assertEqual((plan.ledger.images, plan.ledger.answers, plan.ledger.calls), (4, 2, 2))
        self.assertEqual(plan.ledger.money, {"EUR": 0.02})
        self.assertIn(b"mark-2-own", held_by(self.path), "a plan changes nothing")

        done = forget(self.path, "p-2.jpg", act=True)
        self.assertTrue(done.done and done.ledger.finished and done.clean)
        after = held_by(self.path)
        for gone in (b"p-2.jpg", b"twin.jpg", digest, b"mark-2-own"):
            self.assertNotIn(gone, after)
        self.assertIn(b"mark-1-own", after)
        self.assertEqual(self.usage(), paid)
        self.assertEqual([r for r in rows_of(self.path, batch=1) if r in kept], kept)
        with LedgerStore(self.path) as ledger:
            batch = find_batch(ledger, batch=2)
            self.assertEqual(outcome_counts(ledger, batch)["label"]["deleted"], 2)
            self.assertEqual(list(outcomes_of(ledger, batch)), ["p-0.jpg", "p-1.jpg", "p-3.jpg"])
            self.assertEqual(len(sent_images(ledger, batch)), 3)
        with Ledger(self.path) as ledger:
            self.assertEqual(ledger.failures(batch=2), [])

    def test_it_is_not_sent_again_unasked(self):
        """The same folder sent again leaves it; a new round, which somebody asks for, sends it."""
        self.send(pictures(3), marked)
        forget(self.path, "p-1.jpg", act=True)
        sent, transport = self.send(pictures(3), marked)
        self.assertEqual((len(transport.requests), sent.outcomes["label"]["deleted"]), (0, 1))
        sent, transport = self.send(pictures(3), marked, round="second")
        self.assertEqual((len(transport.requests), sent.outcomes["label"]["deleted"]), (3, 0))

    def test_pending_and_refused(self):
        """What has no content in the ledger goes by its name, and is not sent later."""
        images = {**pictures(3), "small.jpg": picture(9, (4, 4))}
        self.send(images, marked, at_most=1)
        for name in ("p-2.jpg", "small.jpg"):
            self.assertEqual(forget(self.path, name, act=True).ledger.images, 1)
        sent, transport = self.send(images, marked)
        self.assertEqual(len(transport.requests), 1)
        self.assertEqual(sent.outcomes["label"]["deleted"], 2)
        self.assertNotIn(b"small.jpg", held_by(self.path))

    def test_images_of_one_call(self):
        """The others lose their raw answer and keep their findings, through a reading again too."""

        def reply(request):
            marks = [{"name": "night"}]
            return {
                "r": [
                    {"n": e["n"], "tags": marks, "things": []}
                    for e in from_json(request.body)["all"]
                ]
            }

        several = description(*_Several.SERVICE)
        self.send(pictures(5), reply, several)
        done = forget(self.path, "p-0.jpg", act=True)
        self.assertEqual((done.ledger.answers, done.ledger.other_images), (1, 2))
        before = rows_of(self.path)
        self.assertEqual(len([row for row in before if row[2]]), 4)
        changed = description(
            *_Several.SERVICE, ('label = "name"', 'label = "name"\nparents = "up[].name"')
        )
        with LedgerStore(self.path) as ledger:
            anew = reread(ledger, find_batch(ledger), changed, now=2e9)
        self.assertEqual((anew.answers, anew.carried, anew.differences), (2, 2, []))
        self.assertEqual(rows_of(self.path), before)
        _, transport = self.send(pictures(5), reply, several, round="second")
        self.assertEqual(len(transport.requests), 2)

    def test_a_person(self):
        """The kind that names them goes, in whatever spelling; other kinds and people stay."""
        faces = description(*FACES)
        self.send(pictures(5), guests, faces)
        with LedgerStore(self.path) as ledger:
            batch = find_batch(ledger)
            made = "2026-01-01T00:00:00"
            for image, who in (("p-0.jpg", "x"), ("p-2.jpg", "OLD REED"), ("p-4.jpg", "x")):
                review = Review(image=image, row=0, who=who, made=made, word="pass", label="")
                keep_reviews(ledger, batch, [review])
        done = forget(self.path, person="Old Reed", act=True)
        self.assertEqual(done.ledger.names, ("p-0.jpg", "p-1.jpg"))
        # The third answer holds the name beside what is read: it goes, its findings stay.
        self.assertEqual((done.ledger.answers, done.ledger.other_images), (3, 1))
        self.assertTrue(done.clean)
        self.assertNotRegex(held_by(self.path), b"(?i)old +reed\\W")
        rows = rows_of(self.path)
        self.assertEqual(
            [image for image, kind, _ in rows if kind == "face"], ["p-2.jpg", "p-3.jpg", "p-4.jpg"]
        )
        self.assertEqual(len([row for row in rows if row[1] == "label"]), 5)
        with LedgerStore(self.path) as ledger:
            left = reviews_of(ledger, find_batch(ledger))
        self.assertEqual(
            [(one.image, one.who) for one in left], [("p-2.jpg", "(deleted)"), ("p-4.jpg", "x")]
        )

    def test_a_batch(self):
        """It is emptied and no longer the newest; an answer that another uses stays."""
        self.send(pictures(3), marked)
        self.send({**pictures(2), "later.jpg": picture(7)}, marked)
        plan = forget(self.path, batch=1).ledger
        self.assertEqual((plan.images, plan.answers, plan.answers_in_use), (3, 1, 2))
        forget(self.path, batch=1, act=True)
        self.assertEqual(rows_of(self.path, batch=1), [])
        self.assertEqual(len({row[0] for row in rows_of(self.path)}), 3)
        done = forget(self.path, batch=2, act=True)
        self.assertEqual((done.ledger.answers, done.ledger.answers_in_use), (3, 0))
        self.assertNotRegex(held_by(self.path), b"mark-|later|p-[0-9]")
        with Ledger(self.path) as ledger, self.assertRaisesRegex(LedgerError, "does not hold"):
            ledger.failures()
        self.assertEqual(len(self.usage()), 1)

    def test_beside_the_ledger(self):
        """Verdicts that wait to be posted lose theirs; a copy made before an upgrade is listed."""
        self.send(pictures(2), marked)
        outbox = self.path.with_name(self.path.name + ".verdicts.jsonl")
        outbox.write_text('{"id": "1", "image": "p-0.jpg"}\n{"id": "2", "image": "p-1.jpg"}\n')
        copy = self.path.with_name(self.path.name + ".version-8")
        copy.write_bytes(self.path.read_bytes())
        done = forget(self.path, "p-1.jpg", act=True)
        self.assertEqual(outbox.read_text(), '{"id": "1", "image": "p-0.jpg"}\n')
        self.assertEqual([Path(one).name for one in done.files.held], [copy.name])
        self.assertFalse(done.clean)

    def test_what_is_said(self):
        """That none is left is said of a removal only, with how many names; a plan says it is one."""
        self.send(pictures(3), marked)
        words = ["forget", "p-1.jpg", "--ledger", str(self.path)]
        _, out, err = called(*words)
        self.assertIn("To remove: image p-1.jpg", out)
        self.assertNotIn("none is left", out)
        self.assertIn("Nothing is removed yet", err)
        _, out, err = called(*words, "--yes")
        self.assertIn("tables, answers and bytes for 1 name: none is left.", out)
        self.assertNotIn("yet", err)
        status, _, err = called(*words, "--yes")
        self.assertEqual(status, 2)
        self.assertIn("no image of this name in the ledger", err)

    def test_before_a_day(self):
        """Batches begun before it go, later ones stay; a day that cannot be read is refused."""
        self.send(pictures(2), marked)
        self.assertEqual(forget(self.path, before="2020-01-01").ledger.images, 0)
        self.assertEqual(forget(self.path, before="2999-01-01", act=True).ledger.images, 2)
        with self.assertRaisesRegex(ArgumentError, "no date.*'soon'.*2026-01-31"):
            forget(self.path, before="soon")

    def test_what_cannot_be_removed_is_said(self):
        """A name that stands in a batch's settings is listed, and nothing calls it clean."""
        self.send(pictures(2), guests, description(*FACES, ('"north"', '"old reed"')))
        done = forget(self.path, person="Old Reed", act=True)
        self.assertFalse(done.clean)
        self.assertEqual(
            [one.place for one in done.ledger.left], ["batches.settings", "batches.description"]
        )

    def test_bytes_that_are_left(self):
        """A name inside a longer one that stays is no remainder; bytes of a free page are one."""
        images = {"1.jpg": picture(1), "11.jpg": picture(2)}
        self.send(images, marked)
        self.assertTrue(forget(self.path, "1.jpg", act=True).clean)
        # As if the file had not been cut: the name lies behind the last page.
        with mock.patch.object(LedgerStore, "empty_log", lambda store: spoilt(store.path)):
            done = forget(self.path, "11.jpg", act=True)
        self.assertFalse(done.clean)
        self.assertRegex(done.ledger.left[0].place, "bytes")

    def test_refused(self):
        """A near-miss name, two ways at once, none, and one letter."""
        self.send(pictures(2), marked)
        for words, options in (
            ("no image of this name.*'p-l.jpg'.*p-1.jpg", {"images": "p-l.jpg"}),
            ("in one way.*images, batch", {"images": "p-1.jpg", "batch": 1}),
            ("in one way.*nothing", {}),
            ("too short", {"person": "x"}),
            ("no such batch.*7.*'1'|no such batch.*7.*1", {"batch": 7}),
        ):
            with self.subTest(words), self.assertRaisesRegex(ArgumentError, words):
                forget(self.path, **options)


class CutOff(InFolder):
    def setUp(self):
        super().setUp()
        self.send(pictures(3), marked)

    def killed_at(self, place):
        """Remove in a process that ends by itself at a call."""
        program = (
            "import os, dotledger; from dotledger.ledger import data_removal, ledger_store\n"
            f"{place} = lambda *_, **__: os._exit(9)\n"
            f"dotledger.forget({str(self.path)!r}, 'p-1.jpg', act=True)"
        )
        source = str(Path(dotledger.__file__).parents[1])
        done = subprocess.run(
            [sys.executable, "-c", program],
            check=False,
            env={**os.environ, "PYTHONPATH": source},
            timeout=600,
        )
        self.assertEqual(done.returncode, 9)

    def test_inside_the_transaction(self):
        """Nothing is removed, and the next try removes all of it."""
        self.killed_at("data_removal._blank_sources")
        self.assertEqual(len(rows_of(self.path)), 6)
        self.assertTrue(forget(self.path, "p-1.jpg", act=True).clean)
        self.assertNotIn(b"mark-1-own", held_by(self.path))

    def test_before_the_file_is_rewritten(self):
        """All is removed, which the ledger says is unfinished; the next removal finishes it."""
        self.killed_at("ledger_store.LedgerStore.rewrite")
        with LedgerStore(self.path) as ledger:
            self.assertTrue(is_unfinished(ledger))
        self.assertEqual(len(rows_of(self.path)), 4)
        self.assertTrue(forget(self.path, act=True).ledger.finished)
        with LedgerStore(self.path) as ledger:
            self.assertFalse(is_unfinished(ledger))
        self.assertNotIn(b"mark-1-own", held_by(self.path))

    def test_what_is_said_of_it(self):
        """A removal that is only finished is not said to have found nothing, nor to have searched."""
        self.killed_at("ledger_store.LedgerStore.rewrite")
        status, out, _ = called("doctor", "--ledger", str(self.path))
        self.assertIn("a removal was cut off", out)
        status, out, _ = called("forget", "--ledger", str(self.path), "--yes")
        self.assertEqual((status, out), (0, "The removal that was cut off is finished.\n"))
        _, out, _ = called("doctor", "--ledger", str(self.path))
        self.assertNotIn("cut off", out)

    def test_while_somebody_reads(self):
        """A reader keeps the log: that is an error, never "none is left"; later it is finished."""
        with LedgerStore(self.path) as other, other.reading() as connection:
            connection.execute(select(schema.items.c.name)).first()
            with (
                mock.patch("dotledger.ledger.sqlite_backend._BUSY_SECONDS", 0.1),
                self.assertRaisesRegex(LedgerError, "reading the ledger|writing for too long"),
            ):
                forget(self.path, "p-1.jpg", act=True)
        self.assertTrue(forget(self.path, "p-0.jpg", act=True).clean)
        self.assertNotRegex(held_by(self.path), b"mark-[01]-own")

    def test_while_somebody_sends(self):
        """A sender at work, or answers that wait for one, keep everything as it is."""
        with LedgerStore(self.path) as ledger:
            fingerprint = find_batch(ledger).fingerprint
        path = claim_path(self.path, fingerprint)
        claim = FileClaim(path, OPENING)
        with self.assertRaisesRegex(LedgerError, "is sending into the ledger.*Wait"):
            forget(self.path, "p-1.jpg", act=True)
        claim.put_aside(waiting(1))
        claim.release(empty=False)
        with self.assertRaisesRegex(LedgerError, "killed.*Send the same images again"):
            forget(self.path, "p-1.jpg", act=True)
        self.assertEqual(len(rows_of(self.path)), 6)


if __name__ == "__main__":
    unittest.main()
