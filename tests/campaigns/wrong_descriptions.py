"""Descriptions that are wrong in one place, on large and turned photographs: what is said of each.

A service answers rightly; its description reads the answer in another way. What comes out may be
refused, unread, set aside, or look wrong to `reread` or `measure`; or it ends in figures without a
word, which is what must hardly happen, and never in figures that are near zero.
"""

import io
from dataclasses import dataclass

import numpy as np
from PIL import Image

from dotledger import findings_of, measure, send
from dotledger.api.rereading import reread
from dotledger.core.boxes.box_forms import turn_upright
from dotledger.core.tables.annotations_table import Annotations
from dotledger.errors import DescriptionError
from dotledger.ledger.batch_queries import find_batch
from dotledger.ledger.finding_queries import notes_of
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger_findings import findings_and_sizes
from dotledger.services.service_description import parse_description
from dotledger.testing import FakeTransport

LABELS = ("lantern", "stool", "banner", "basket", "drum", "kite")
MOST_SIDE = 1024
SIDES = ((1600, 1200), (1200, 1800), (800, 600), (2400, 1600), (1280, 720), (640, 900))
TURNS = (1, 1, 6, 1, 8, 3)

HEAD = """
service = "{name}"
[connect]
address = "http://127.0.0.1:1"
[[call]]
name = "look"
kinds = ["object"]
path = "/look"
[limits]
formats = ["jpeg"]
at_once = 1
max_side = 1024
min_side = 8
[[read]]
kind = "object"
"""


@dataclass(frozen=True)
class Thing:
    label: str
    confidence: float
    box: tuple  # in fractions of the upright image


def photographs(count):
    """Large JPEGs, some turned: name, bytes, upright size, orientation."""
    found = []
    for number in range(count):
        wide, high = SIDES[number % len(SIDES)]
        turn = TURNS[(number // 2) % len(TURNS)]
        rng = np.random.default_rng(number)
        small = Image.fromarray(rng.integers(0, 255, (6, 8, 3), dtype=np.uint8))
        flat = (high, wide) if turn >= 5 else (wide, high)
        exif = Image.Exif()
        exif[0x0112] = turn
        buffer = io.BytesIO()
        small.resize(flat, Image.Resampling.BICUBIC).save(buffer, "JPEG", exif=exif, quality=60)
        found.append((f"photo-{number:02}.jpg", buffer.getvalue(), (wide, high), turn))
    return found


def scenes(count, seed=0):
    """What stands in each photograph, and what the service finds of it."""
    rng, true, seen = np.random.default_rng(seed), [], []
    for _ in range(count):
        things = []
        for _ in range(rng.integers(2, 6)):
            x, y = rng.uniform(0, 0.85, 2)  # some reach the edge, as things in photographs do
            w, h = rng.uniform(0.06, 0.25), rng.uniform(0.1, 0.25)
            things.append(
                Thing(str(rng.choice(LABELS)), 1.0, (x, y, min(x + w, 1.0), min(y + h, 1.0)))
            )
        true.append(things)
        found = [
            Thing(one.label, float(np.clip(rng.beta(7, 2), 0.05, 0.99)), tuple(np.clip(np.add(one.box, rng.normal(0, 0.004, 4)), 0, 1)))
            for one in things
            if rng.random() < 0.88
        ]  # fmt: skip
        if rng.random() < 0.4:
            found.append(
                Thing(str(rng.choice(LABELS)), float(rng.beta(2, 4)), (0.8, 0.8, 0.93, 0.97))
            )
        seen.append(found)
    return true, seen


def sent_size(size):
    scale = min(1.0, MOST_SIDE / max(size))
    return round(size[0] * scale), round(size[1] * scale)


def alder(things, size, turn):
    """Fractions, corners in a list; confidences as fractions; other numbers next to them."""
    return {
        "found": [
            {"id": n + 1, "name": t.label, "group": "thing", "score": round(t.confidence, 4), "quality": 0.5,
             "area": int((t.box[2] - t.box[0]) * (t.box[3] - t.box[1]) * size[0] * size[1]),
             "box": [round(v, 5) for v in t.box],
             "inner": [round(v, 5) for v in (t.box[0] + 0.03, t.box[1] + 0.03, t.box[2] - 0.03, t.box[3] - 0.03)]}
            for n, t in enumerate(things)
        ]
    }  # fmt: skip


def birch(things, size, turn):
    """Pixels of what was sent, corner and size in an object; percent."""
    wide, high = sent_size(size)
    return {
        "hits": [
            {"tag": {"text": t.label, "code": f"c{LABELS.index(t.label)}"}, "percent": round(100 * t.confidence, 1),
             "at": {"left": round(t.box[0] * wide), "top": round(t.box[1] * high),
                    "width": max(1, round((t.box[2] - t.box[0]) * wide)), "height": max(1, round((t.box[3] - t.box[1]) * high))}}
            for t in things
        ]
    }  # fmt: skip


def cedar(things, size, turn):
    """A grid of 1000, centre and size; log-odds."""
    return {
        "items": [
            {"what": t.label, "logit": round(float(np.log(t.confidence / (1 - t.confidence))), 4),
             "c": [round(1000 * (t.box[0] + t.box[2]) / 2), round(1000 * (t.box[1] + t.box[3]) / 2),
                   round(1000 * (t.box[2] - t.box[0])), round(1000 * (t.box[3] - t.box[1]))]}
            for t in things
        ]
    }  # fmt: skip


def elder(things, size, turn):
    """Fractions of the image as stored, before it is turned; a range of 0 to 5; a grid of 1024 beside."""
    made = []
    for t in things:
        turn = 1 if max(size) > MOST_SIDE else turn  # what is made smaller is sent upright
        flat = (size[1], size[0]) if turn >= 5 else size
        back = {6: 8, 8: 6}.get(turn, turn)
        corners = [
            (t.box[0] * size[0], t.box[1] * size[1]),
            (t.box[2] * size[0], t.box[3] * size[1]),
        ]
        lying = turn_upright(corners, *size, back)
        xs, ys = (sorted(p[axis] / flat[axis] for p in lying) for axis in (0, 1))
        place = [xs[0], ys[0], xs[1], ys[1]]
        made.append({"n": t.label, "stars": round(5 * t.confidence, 2), "p": [round(v, 5) for v in place],
                     "g": [min(1024, round(1024 * v)) for v in t.box]})  # fmt: skip
    return {"seen": made}


RIGHT = {
    "alder": (alder, 'each = "found[]"\nlabel = "name"\nconfidence = { at = "score" }\n'
              'box = { at = "box", order = ["x0", "y0", "x1", "y1"], unit = "fraction" }\n'),
    "birch": (birch, 'each = "hits[]"\nlabel = "tag.text"\nconfidence = { at = "percent", scale = "percent" }\n'
              'box = { at = "at", form = "corner+size", fields = { x0 = "left", y0 = "top", width = "width", height = "height" } }\n'),
    "cedar": (cedar, 'each = "items[]"\nlabel = "what"\nconfidence = { at = "logit", scale = "log-odds" }\n'
              'box = { at = "c", form = "centre+size", order = ["cx", "cy", "width", "height"], unit = "thousandths" }\n'),
    "elder": (elder, 'each = "seen[]"\nlabel = "n"\nconfidence = { at = "stars", scale = "range", range = [0, 5] }\n'
              'box = { at = "p", order = ["x0", "y0", "x1", "y1"], unit = "fraction", upright = false }\n'),
    "elder grid": (elder, 'each = "seen[]"\nlabel = "n"\nconfidence = { at = "stars", scale = "range", range = [0, 5] }\n'
                   'box = { at = "g", order = ["x0", "y0", "x1", "y1"], unit = "grid", grid = 1024 }\n'),
}  # fmt: skip
"""By name: what answers, and the reading rule that is right."""

WRONG = (
    ("alder", "x and y swapped", '["x0", "y0", "x1", "y1"]', '["y0", "x0", "y1", "x1"]'),
    ("alder", "corner and size for corners", 'order = ["x0", "y0", "x1", "y1"]', 'form = "corner+size", order = ["x0", "y0", "width", "height"]'),
    ("alder", "centre and size for corners", 'order = ["x0", "y0", "x1", "y1"]', 'form = "centre+size", order = ["cx", "cy", "width", "height"]'),
    ("alder", "corners crossed", '["x0", "y0", "x1", "y1"]', '["x1", "y1", "x0", "y0"]'),
    ("alder", "corner of x with corner of y", '["x0", "y0", "x1", "y1"]', '["x0", "x1", "y0", "y1"]'),
    ("alder", "percent for fractions", '"fraction"', '"percent"'),
    ("alder", "pixels for fractions", ', unit = "fraction"', ""),
    ("alder", "another box", 'at = "box"', 'at = "inner"'),
    ("alder", "image before turning", 'unit = "fraction"', 'unit = "fraction", upright = false'),
    ("alder", "percent for confidences in fractions", '"score"', '"score", scale = "percent"'),
    ("alder", "log-odds for confidences in fractions", '"score"', '"score", scale = "log-odds"'),
    ("alder", "thousandths for confidences in fractions", '"score"', '"score", scale = "thousandths"'),
    ("alder", "another number as confidence", '"score"', '"quality"'),
    ("alder", "number of the finding as confidence", '"score"', '"id", scale = "percent"'),
    ("alder", "area as confidence", '"score"', '"area", scale = "log-odds"'),
    ("alder", "a group as label", '"name"', '"group"'),
    ("alder", "a number as label", '"name"', '"id"'),
    ("alder", "only the first finding", '"found[]"', '"found[0]"'),
    ("alder", "no confidence", 'confidence = { at = "score" }\n', ""),
    ("birch", "fractions for pixels", 'form =', 'unit = "fraction", form ='),
    ("birch", "pixels of the original", 'form =', 'of = "original", form ='),
    ("birch", "corners for corner and size", 'form = "corner+size", fields = { x0 = "left", y0 = "top", width = "width", height = "height" }', 'fields = { x0 = "left", y0 = "top", x1 = "width", y1 = "height" }'),
    ("birch", "centre for corner", 'form = "corner+size", fields = { x0 = "left", y0 = "top"', 'form = "centre+size", fields = { cx = "left", cy = "top"'),
    ("birch", "left and top swapped", 'x0 = "left", y0 = "top"', 'x0 = "top", y0 = "left"'),
    ("birch", "width and height swapped", 'width = "width", height = "height"', 'width = "height", height = "width"'),
    ("birch", "image before turning", 'form =', 'upright = false, form ='),
    ("birch", "fractions for percent", ', scale = "percent"', ""),
    ("birch", "thousandths for percent", '"percent" }', '"thousandths" }'),
    ("birch", "log-odds for percent", '"percent" }', '"log-odds" }'),
    ("birch", "a code as label", '"tag.text"', '"tag.code"'),
    ("cedar", "corner for centre", 'form = "centre+size", order = ["cx", "cy"', 'form = "corner+size", order = ["x0", "y0"'),
    ("cedar", "percent for thousandths", '"thousandths"', '"percent"'),
    ("cedar", "a grid of 1024 for one of 1000", 'unit = "thousandths"', 'unit = "grid", grid = 1024'),
    ("cedar", "pixels for thousandths", ', unit = "thousandths"', ""),
    ("cedar", "fractions for log-odds", ', scale = "log-odds"', ""),
    ("elder", "upright image", ", upright = false", ""),
    ("elder", "a range of 0 to 10", "[0, 5]", "[0, 10]"),
    ("elder", "a range of 1 to 5", "[0, 5]", "[1, 5]"),
    ("elder grid", "thousandths for a grid of 1024", 'unit = "grid", grid = 1024', 'unit = "thousandths"'),
)  # fmt: skip
"""Service, what is wrong, the text of the right rule, and what stands in its place."""


@dataclass(frozen=True)
class Said:
    """What happened to one wrong description; `words` is empty if nothing was said."""

    service: str
    what: str
    where: str
    words: str
    recall: float
    right: float


class Campaign:
    """Each service sent to once, its answers read anew by every wrong description."""

    def __init__(self, folder, images=24):
        self.photos = photographs(images)
        self.true, self.seen = scenes(images)
        self.folder = folder
        rows = [
            {"image": name, "kind": "object", "label": t.label, "x0": t.box[0] * w, "y0": t.box[1] * h, "x1": t.box[2] * w, "y1": t.box[3] * h, "width": w, "height": h}
            for (name, _, (w, h), _), things in zip(self.photos, self.true)
            for t in things
        ]  # fmt: skip
        import pandas as pd

        self.annotations = Annotations.from_frame(pd.DataFrame(rows))
        self.ledgers = {}

    def ledger(self, name):
        """The ledger of a service that was read rightly, and what is said of that."""
        if name not in self.ledgers:
            answers, rule = RIGHT[name]
            replies = iter(
                answers(t, size, turn) for t, (_, _, size, turn) in zip(self.seen, self.photos)
            )
            path = self.folder / f"{name.replace(' ', '-')}.ledger"
            text = HEAD.format(name=name.split()[0]) + rule
            images = {photo: data for photo, data, _, _ in self.photos}
            send(
                images,
                parse_description(text),
                ledger=path,
                key="k",
                transport=FakeTransport(lambda _: next(replies)),
            )
            found = measure(findings_of(path), self.truth(path), draws=0)
            with LedgerStore(path) as opened:
                noted = notes_of(opened, find_batch(opened))
            self.ledgers[name] = path, text, found, noted
        return self.ledgers[name]

    def truth(self, path):
        """The annotations with what the ledger knows of each image, as the command gives them."""
        return self.annotations.with_images(findings_and_sizes(path)[1])

    def right(self, name):
        """What is said where nothing is wrong: suspicions of `reread` and notes of `measure`."""
        path, text, found, _ = self.ledger(name)
        with LedgerStore(path) as opened:
            again = reread(opened, find_batch(opened), parse_description(text), now=2e9)
        return [*again.suspicions, *(n for n in found.notes if n.startswith("Suspicious"))], found

    def said(self, service, what, old, new):
        """Read a service's answers by a wrong description."""
        path, text, right, noted = self.ledger(service)
        if old not in text:
            raise AssertionError(f"{service}: no {old!r} to change")
        before = recall_of(right)
        try:
            described = parse_description(text.replace(old, new, 1))
        except DescriptionError as error:
            return Said(service, what, "refused", str(error), float("nan"), before)
        with LedgerStore(path) as opened:
            batch = find_batch(opened)
            result = reread(
                opened, find_batch(opened, batch=batch.id, reading=1), described, now=2e9
            )
            anew = find_batch(opened, batch=batch.id, reading=result.reading)
            fresh = [reason for _, reason, _ in notes_of(opened, anew)]
            found = findings_of(opened, batch=batch.id, reading=result.reading)
        measured = measure(found, self.truth(path), draws=0)
        kept = [n for n in measured.notes if n not in right.notes]
        words = (
            ("reread", " / ".join(result.suspicions)),
            ("reread", f"{result.unreadable} unreadable" if result.unreadable else ""),
            ("noted", ", ".join(sorted(set(fresh))) if len(fresh) > len(noted) else ""),
            ("measure", " / ".join(kept)),
        )  # fmt: skip
        where, told = next(((w, t) for w, t in words if t), ("", ""))
        return Said(service, what, where, told, recall_of(measured), before)


def recall_of(result):
    kind = result.kinds.get("object")
    return kind.pooled.recall if kind else float("nan")
