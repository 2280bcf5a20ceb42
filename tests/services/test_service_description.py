"""Descriptions: what is accepted, and what a mistake gets."""

import pickle
import tempfile
import unittest
from pathlib import Path

from dotledger.errors import DescriptionError
from dotledger.services.service_description import parse_description, read_description
from dotledger.standins.evening_demo import description_text

FLINT = description_text("flint")
MARL = description_text("marl")


class Strict(unittest.TestCase):
    def refused(self, old, new, sign, text=FLINT):
        self.assertIn(old, text)
        with self.assertRaisesRegex(DescriptionError, sign) as caught:
            parse_description(text.replace(old, new, 1), name="flint.toml")
        return caught.exception

    def test_misspelt_keys(self):
        """An unknown key is refused with its line and the nearest right one."""
        line = FLINT.splitlines().index("min_side = 48") + 1
        self.refused("min_side", "min_sid", rf"line {line}, limits.min_sid.*'min_side'")
        self.refused("[price]", "[pric]", "did you mean 'price'")
        self.refused('unit = "fraction"', 'unit = "fractions"', "did you mean 'fraction'")

    def test_contradictions(self):
        """Keys that need each other are asked for."""
        self.refused('name = "X-Flint-Key"\n', "", "needs a name")
        self.refused('image_field = "picture"\n', "", "needs image_field")
        self.refused('"y0", "x0", "y1", "x1"', '"y0", "x0", "y1"', "needs exactly x0, y0, x1, y1")
        self.refused('sources = ["env:FLINT_KEY"', 'sources = ["secret-key"', "is not a source")
        self.refused('"http://{host}:{port}"', '"http://{hots}:{port}"', "no 'hots'")
        self.refused("[connect.token]\n", "[connect.tokens]\n", "did you mean 'token'", MARL)

    def test_not_toml_and_wrong_types(self):
        """Text that is no TOML, and values of the wrong type, are named."""
        self.refused("schema = 1", "schema = ", "not TOML")
        self.refused("at_once = 8", 'at_once = "many"', "limits.at_once.*'many'")
        self.refused('service = "flint"\n', "", "needed key 'service' is missing")

    def test_a_byte_order_mark(self):
        """A file that an editor began with a byte order mark is read."""
        with tempfile.TemporaryDirectory() as folder:
            file = Path(folder) / "flint.toml"
            file.write_text(FLINT, encoding="utf-8-sig")
            self.assertEqual(read_description(file), parse_description(FLINT))

    def test_errors_survive_pickling(self):
        """An error comes out of a pickle with its facts."""
        error = self.refused("min_side", "min_sid", "limits")
        copy = pickle.loads(pickle.dumps(error))
        self.assertEqual(
            (str(copy), copy.allowed, copy.got), (str(error), error.allowed, "min_sid")
        )


class Settings(unittest.TestCase):
    def test_filled_from_named_settings(self):
        """The address takes its parts from settings; unknown and empty ones are refused."""
        flint = parse_description(FLINT).with_settings({"port": "99"})
        self.assertEqual(flint.filled("{address}/x"), "http://127.0.0.1:99/x")
        with self.assertRaisesRegex(DescriptionError, "did you mean 'port'"):
            flint.with_settings({"prot": "1"})
        with self.assertRaisesRegex(DescriptionError, "settings=.*port.*VALUE"):
            flint.with_settings({"port": ""}).filled("{port}")

    def test_fingerprint(self):
        """What could change an answer changes the fingerprint; limits on rate and prices do not."""
        flint = parse_description(FLINT)
        same = parse_description(FLINT.replace("per_1000 = 1.50", "per_1000 = 9.0"))
        other = parse_description(FLINT.replace("max_side = 4096", "max_side = 1024"))
        kinds = flint.kinds
        self.assertEqual(flint.fingerprint(kinds), same.fingerprint(kinds))
        self.assertNotEqual(flint.fingerprint(kinds), other.fingerprint(kinds))
        self.assertNotEqual(flint.fingerprint(kinds), flint.fingerprint(("face",)))
