"""CONTRIBUTING's recipes, followed on a copy of the source: what a stranger adds works everywhere."""

import os
import re
import shutil
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import dotledger

PACKAGE = Path(dotledger.__file__).parent
TEXT = (Path(__file__).parent.parent / "CONTRIBUTING.md").read_text(encoding="utf-8")

ASKED = """
import dotledger
from dotledger.report.terminal.comparison_tables import comparison_parts
from dotledger.report.terminal.measure_tables import measure_tables
from dotledger.report.terminal.terminal_tables import console, printed
rows = [("i%d" % n, n % 3 == 0, n % 5 < 2) for n in range(60)]
open("f.csv", "w").write("image,kind,label,confidence\\n" + "".join(f"{i},label,{'bell' if f else ''},{0.9 if f else ''}\\n" for i, f, _ in rows))
open("t.csv", "w").write("image,kind,label,ignore\\n" + "".join(f"{i},label,{'bell' if t else ''},\\n" for i, _, t in rows))
open("g.toml", "w").write('gates_file = 1\\n[[gate]]\\nmeasure = "specificity"\\nat_least = 0.1\\n')
result = dotledger.measure("f.csv", "t.csv")
false = sum(f and not t for _, f, t in rows)
absent = sum(not t for _, _, t in rows)
row = result.to_dict()["pooled"]
assert abs(row["specificity"] - (1 - false / absent)) < 1e-12, row
low, high = row["intervals"]["specificity"]
assert low < row["specificity"] < high
assert "specificity_low" in result.sweep("label").frame().columns
assert dotledger.check_gates("f.csv", "t.csv", "g.toml").holds
assert "specificity" in "".join(printed(console(), one) for one in measure_tables(result))
both = dotledger.compare("f.csv", "f.csv", annotations="t.csv", names=["a", "b"], draws=50)
assert "specificity" in "".join(printed(console(), part) for part in comparison_parts(both))
print("met everywhere")
"""


class Recipes(unittest.TestCase):
    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.copy = self.home / "src" / "dotledger"
        shutil.copytree(PACKAGE, self.copy, ignore=shutil.ignore_patterns("__pycache__"))

    def run_copy(self, *words):
        return subprocess.run(
            [sys.executable, *words],
            cwd=self.home,
            env={**os.environ, "PYTHONPATH": str(self.copy.parent)},
            capture_output=True,
            text=True,
            check=False,
        )

    def block(self, heading):
        return re.search(rf"\*\*{heading}\.\*\*.*?```python\n(.*?)```", TEXT, re.DOTALL)[1]

    def test_a_measure(self):
        """One record, and the measure has an interval, a sweep, a gate and a comparison."""
        registry = self.copy / "core" / "measures" / "registry.py"
        text = registry.read_text()
        end = text.index(")\n\nMEASURES:")
        registry.write_text(f"{text[:end]}{self.block('A measure').rstrip()},\n{text[end:]}")
        done = self.run_copy("-c", ASKED)
        self.assertEqual((done.stdout, done.returncode), ("met everywhere\n", 0), done.stderr)

    def test_a_command(self):
        """One file and one line, and the command is in the help and runs."""
        (self.copy / "cli" / "look" / "count_command.py").write_text(self.block("A command"))
        listed = self.copy / "cli" / "__init__.py"
        line = '            "count": "count the batches of a ledger",\n'
        text = listed.read_text()
        place = text.index('            "draw":')
        listed.write_text(text[:place] + line + text[place:])
        self.assertIn("count the batches", self.run_copy("-m", "dotledger", "--help").stdout)
        refused = self.run_copy("-m", "dotledger", "count", "--ledger", "none.ledger")
        self.assertIn("no ledger here", refused.stderr)
