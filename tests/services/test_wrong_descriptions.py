"""Descriptions that are wrong in one place: none ends in plausible numbers without a word."""

import re
import tempfile
import unittest
from pathlib import Path

from dotledger import Ledger, send
from dotledger.errors import DescriptionError
from dotledger.ledger.batches import find_batch
from dotledger.ledger.findings import notes_of
from dotledger.rereading import reread
from dotledger.services.description import parse_description
from dotledger.standins.evening import description_of, description_text, running
from dotledger.standins.scenes import RECIPES, draw_scene
from dotledger.standins.trouble import parse_trouble

SCALES = ("fraction", "percent", "thousandths")
UNITS = ("fraction", "percent", "thousandths", "pixels")


def edits(text):
    """Yield (what, text) with one edit each in the reading rules: path, scale, unit, kind, section, type."""
    start = text.index("[[read]]")
    for match in re.finditer(r'\b(each|label|at) = "([^"@^]+)"', text[start:]):
        old, path = match[0], match[2]
        inner = re.sub(r"\w(?=\W*$)", "q", path, count=1)
        yield f"path {path}", _at(text, start + match.start(), old, old.replace(path, inner))
        if match[1] == "each":
            other = path.replace("[]", "{}") if "[]" in path else path.replace("{}", "[]")
            yield f"section {path}", _at(text, start + match.start(), old, f'each = "{other}"')
    for match in re.finditer(r'scale = "(\w+)"', text[start:]):
        for scale in SCALES:
            if match[1] in SCALES and scale != match[1]:
                yield (
                    f"scale {scale}",
                    _at(text, start + match.start(), match[0], f'scale = "{scale}"'),
                )
    for match in re.finditer(r'unit = "(\w+)"', text[start:]):
        for unit in UNITS:
            if (
                match[1] in UNITS
                and unit != match[1]
                and "attributes" not in _line(text, start + match.start())
            ):
                yield f"unit {unit}", _at(text, start + match.start(), match[0], f'unit = "{unit}"')
    for match in re.finditer(r'^kind = "(\w+)"', text[start:], re.MULTILINE):
        other = "label" if match[1] != "label" else "caption"
        yield f"kind {match[1]}", _at(text, start + match.start(), match[0], f'kind = "{other}"')
    for match in re.finditer(r'type = "(\w+)"', text[start:]):
        for kind in ("range", "shares"):
            yield f"type {kind}", _at(text, start + match.start(), match[0], f'type = "{kind}"')


def _at(text, place, old, new):
    return text[:place] + new + text[place + len(old) :]


def _line(text, place):
    return text[text.rfind("\n", 0, place) : text.find("\n", place)]


class WrongDescriptions(unittest.TestCase):
    def test_one_edit_each(self):
        """At least twenty wrong descriptions of each service: refused, unread, noted or suspicious."""
        scenes = {s.name: s.data for s in map(draw_scene, RECIPES)}
        silent = []
        for name in ("flint", "marl", "chalk"):
            with tempfile.TemporaryDirectory() as home, running(name, parse_trouble("")) as up:
                path = Path(home) / "l"
                send(scenes, description_of(up), ledger=path, key=up.service.key)
                tried = 0
                for what, text in edits(description_text(name)):
                    tried += 1
                    if (fault := self.silent(path, text)) is not None:
                        silent.append((name, what, fault))
            self.assertGreaterEqual(tried, 20, name)
        self.assertEqual(silent, [])

    def silent(self, path, text):
        """Read the answers anew; return what changed if nothing is said about it."""
        try:
            described = parse_description(text)
        except DescriptionError as error:
            self.assertTrue(str(error))
            return None
        with Ledger(path) as ledger:
            first = find_batch(ledger, batch=1, reading=1)
            before = notes_of(ledger, first)
            result = reread(ledger, first, described, now=2e9)
            if not result.differences:
                return None
            anew = find_batch(ledger, batch=1, reading=result.reading)
            said = notes_of(ledger, anew) != before
        return None if said or result.unreadable or result.suspicions else result.differences[0]
