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

READ_NAMES = r"""
import dotledger
open("t.names", "w").write("a.jpg bell\nb.jpg drum stick\n")
true = dotledger.read_annotations("t.names")
assert true.label.values().tolist() == ["bell", "drum stick"], true
open("f.csv", "w").write("image,kind,label,confidence\na.jpg,label,bell,0.9\nb.jpg,label,,\n")
assert dotledger.measure("f.csv", "t.names").pooled.recall == 0.5
try:
    dotledger.read_annotations("t.nowhere")
except dotledger.DotLedgerError as error:
    assert "a list of names (.names)" in str(error), error
print("as written")
"""

SENT_IN_HEX = r"""
import dotledger, msgspec
from dotledger.standins.demo_scenes import RECIPES, draw_scene
from dotledger.services.service_description import Call
lines = ['schema = 1', 'service = "bell"', '[connect]', 'address = "http://127.0.0.1:1"', '[[call]]', 'name = "look"',
         'kinds = ["label"]', 'path = "/look"', 'body = "hex"', 'image_field = "picture"', 'form = { most = "3" }',
         '[[read]]', 'kind = "label"', 'each = "tags[]"', 'label = "name"']
open("a.toml", "w").write("\n".join(lines))
data = draw_scene(RECIPES[0]).data
trial = dotledger.try_call(data, "a.toml", dry=True)
text = "\n".join(trial.request)
assert trial.well and "application/x-www-form-urlencoded" in text, text
assert "most=3&picture=" + data.hex()[:30] in text, text
assert "hex" in str(msgspec.json.schema(Call))
print("as written")
"""

LARGER_FIRST = """
import pandas as pd, dotledger
def table(rows, **more):
    columns = ["image", "kind", "label", "x0", "y0", "x1", "y1"]
    return pd.DataFrame([("a", "face", "f", *row) for row in rows], columns=columns).assign(**more)
found = table([(0, 0, 9, 10), (0, 0, 12, 10)], confidence=0.7)
states = dotledger.pair_tables(found, table([(0, 0, 10, 10)]), overlap=0.5)
assert list(states.finding) == ["wrong", "right"], states.finding
print("as written")
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

    def blocks(self, heading):
        part = re.search(rf"\*\*{heading}\.\*\*(.*?)(?:\n\*\*|\Z)", TEXT, re.DOTALL)[1]
        return [code.rstrip() for code in re.findall(r"```python\n(.*?)```", part, re.DOTALL)]

    def put(self, path, mark, code):
        """Write code before a mark of a file."""
        before, found, after = (self.copy / path).read_text().partition(mark)
        self.assertTrue(found, mark)
        (self.copy / path).write_text(f"{before}{code}{found}{after}")

    def runs(self, code):
        done = self.run_copy("-c", code)
        self.assertEqual((done.stdout, done.returncode), ("as written\n", 0), done.stderr)

    def test_a_measure(self):
        """One record, and the measure has an interval, a sweep, a gate and a comparison."""
        [record] = self.blocks("A measure")
        self.put("core/measures/registry.py", ")\n\nMEASURES:", f"{record},\n")
        done = self.run_copy("-c", ASKED)
        self.assertEqual((done.stdout, done.returncode), ("met everywhere\n", 0), done.stderr)

    def test_an_annotation_format(self):
        """One function and one record, and files of the format are read wherever annotations are."""
        record, reader = self.blocks("An annotation format")
        place = "formats/annotations/annotation_formats.py"
        self.put(place, "\nFORMATS: tuple", f"{reader}\n\n")
        self.put(place, "from dotledger.core", "import pandas as pd\n")
        self.put(place, '\n)\n"""Every format', f"\n{record},")
        self.runs(READ_NAMES)

    def test_a_body_form(self):
        """One function and one record, and a description may say it."""
        record, maker = self.blocks("A body form")
        place = "services/body_forms.py"
        self.put(place, "_RECORDS = (", f"{maker}\n\n\n")
        self.put(place, ")\n\nBODY_FORMS", f"    {record},\n")
        self.runs(SENT_IN_HEX)

    def test_a_tie_rule(self):
        """One line, and the larger of two equal findings chooses first."""
        [line] = self.blocks("A tie rule")
        place = self.copy / "core" / "pairing" / "greedy_pairing.py"
        text = place.read_text()
        start = text.index("    rows = np.lexsort((-best, -certain))")
        rest = text[text.index("    return rows\n", start) :]
        place.write_text(f"{text[:start]}{line}\n{rest}")
        self.runs(LARGER_FIRST)

    def test_a_command(self):
        """One file and one line, and the command is in the help and runs."""
        (self.copy / "cli" / "look" / "count_command.py").write_text(self.blocks("A command")[0])
        listed = self.copy / "cli" / "__init__.py"
        line = '            "count": "count the batches of a ledger",\n'
        text = listed.read_text()
        place = text.index('            "draw":')
        listed.write_text(text[:place] + line + text[place:])
        self.assertIn("count the batches", self.run_copy("-m", "dotledger", "--help").stdout)
        refused = self.run_copy("-m", "dotledger", "count", "--ledger", "none.ledger")
        self.assertIn("no ledger here", refused.stderr)
