"""Schemas: what ships fits them, what is misspelt does not, and every sort of file has one."""

import json
import tempfile
import tomllib
import unittest
from importlib import resources

import jsonschema

from dotledger.errors import ArgumentError
from dotledger.formats.json_schemas import SCHEMAS, schema_of
from tests.forked import dotledger

RULES = 'rules_file = 1\nunmentioned = "hold"\n[[rule]]\nverdict = "block"\nkind = "unsafe"\nlabel = ["smoke"]\nconfidence = 0.5\n'


class Schemas(unittest.TestCase):
    def test_each_is_one(self):
        """Each is a schema of the draft that it names, as the command prints it."""
        with tempfile.TemporaryDirectory() as home:
            for name in SCHEMAS:
                schema = schema_of(name)
                jsonschema.Draft202012Validator.check_schema(schema)
                done = dotledger("doctor", "--schema", name, cwd=home)
                self.assertEqual(json.loads(done.stdout), schema)
        with self.assertRaises(ArgumentError):
            schema_of("descriptions")

    def test_descriptions(self):
        """Those of the simulated services fit; a misspelt key, a wrong word, a wrong sort do not."""
        check = jsonschema.Draft202012Validator(schema_of("description"))
        for file in resources.files("dotledger.standins").iterdir():
            if file.name.endswith(".toml"):
                self.assertEqual(
                    list(check.iter_errors(tomllib.loads(file.read_text("utf-8")))), [], file.name
                )
        flint = tomllib.loads(
            (resources.files("dotledger.standins") / "flint.toml").read_text("utf-8")
        )
        for change in ({"servic": "x"}, {"limits": {"at_once": "six"}}, {"limits": {"formats": ["gif89"]}}):  # fmt: skip
            self.assertGreater(len(list(check.iter_errors({**flint, **change}))), 0, change)

    def test_rules(self):
        """A rules file fits; a verdict that there is not does not."""
        check = jsonschema.Draft202012Validator(schema_of("rules"))
        self.assertEqual(list(check.iter_errors(tomllib.loads(RULES))), [])
        for old, new in (("block", "ban"), ("verdict", "verdit"), ("0.5", '["x"]')):
            self.assertGreater(
                len(list(check.iter_errors(tomllib.loads(RULES.replace(old, new))))), 0
            )
