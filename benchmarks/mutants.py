"""Which small mistakes the tests would notice: one comparison, sign, boolean or constant at a time.

``python -m benchmarks mutants [--quick] [--count=N] [--seed=N]``. Each mutant is a copy of the sources with one
change; the tests of its room run on it until one fails. What no test notices is listed, to be looked at: some are
equivalent to the original, the others want a test.
"""

import ast
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "dotledger"
CORE = ["tests/core/measuring", "tests/core/questions", "tests/core/counting"]
ROOMS = {
    "core/boxes": ["tests/core/boxes", "tests/core/questions", "tests/services"],
    "core/tables": ["tests/core/tables", "tests/formats", *CORE],
    "core/pairing": ["tests/core/pairing", *CORE],
    "core/counting": CORE,
    "core/questions": ["tests/core/questions", "tests/core/tables", *CORE],
    "core/measuring": [*CORE, "tests/formats"],
    "core/choosing": ["tests/core/choosing", "tests/core/comparing", "tests/core/measuring"],
    "core/comparing": ["tests/core/comparing", "tests/formats"],
    "core/deciding": ["tests/core/deciding"],
    "acting": ["tests/acting"],
    "reading": ["tests/services"],
    "services": ["tests/services"],
    "sending/deciding": ["tests/sending/deciding", "tests/sending/batch"],
    "images": ["tests/images"],
    "formats": ["tests/formats"],
}
"""The rooms that are changed, each with the folders whose tests should notice, the nearest first."""

OTHER = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq, ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is,
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.Div, ast.Div: ast.Mult, ast.And: ast.Or,
    ast.Or: ast.And, ast.BitAnd: ast.BitOr, ast.BitOr: ast.BitAnd,
}  # fmt: skip


EQUIVALENT = ("strict", "frozen", "eq", "repr", "kw_only", "compare", "slots", "gc", "repr")
"""Keywords whose change changes nothing that is ever asked for: both sides of a zip are as long."""


def places(tree):
    """Yield (node, what) of everything that can be changed."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Compare) and type(node.ops[0]) in OTHER:
            yield node, "comparison"
        elif isinstance(node, (ast.BinOp, ast.BoolOp)) and type(node.op) in OTHER:
            if not (isinstance(node, ast.BinOp) and _is_type_or_text(node)):
                yield node, "operator"
        elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
            yield node, "not"
        elif isinstance(node, ast.Constant) and type(node.value) in (bool, int, float):
            yield node, "constant"


def _is_type_or_text(node):
    names = {type(side) for side in (node.left, node.right)}
    return bool(names & {ast.JoinedStr, ast.Subscript}) or any(
        isinstance(side, ast.Constant) and (side.value is None or isinstance(side.value, str))
        for side in (node.left, node.right)
    )


def changed(text, number):
    """Return the text with its place `number` changed, and a line about it."""
    tree = ast.parse(text)
    node, what = list(places(tree))[number]
    before = ast.unparse(node)
    if what == "comparison":
        node.ops[0] = OTHER[type(node.ops[0])]()
    elif what == "operator":
        node.op = OTHER[type(node.op)]()
    elif what == "not":
        node.operand, node.op = ast.UnaryOp(ast.Not(), node.operand), ast.Not()
    else:
        node.value = not node.value if isinstance(node.value, bool) else node.value + 1
    after = ast.unparse(node)
    return ast.unparse(ast.fix_missing_locations(tree)), f"{node.lineno}: {before}  ->  {after}"


def sample(count, seed):
    """Return (room, file, place) of a random sample over the rooms."""
    every = []
    for room in ROOMS:
        for path in sorted((SOURCE / room).rglob("*.py")):
            tree = ast.parse(path.read_text())
            hinted = _of_hints(tree)
            every += [
                (room, path, n)
                for n, (node, _) in enumerate(places(tree))
                if id(node) not in hinted
            ]
    return random.Random(seed).sample(every, count)


def _of_hints(tree):
    """Return what stands in type hints, messages and docstrings: no test should notice it."""
    hints = [
        n.annotation
        for n in ast.walk(tree)
        if isinstance(n, (ast.arg, ast.AnnAssign)) and n.annotation
    ]
    hints += [n.returns for n in ast.walk(tree) if isinstance(n, ast.FunctionDef) and n.returns]
    hints += [n for n in ast.walk(tree) if isinstance(n, (ast.JoinedStr, ast.Raise))]
    hints += [n for n in ast.walk(tree) if isinstance(n, ast.keyword) and n.arg in EQUIVALENT]
    return {id(inner) for hint in hints for inner in ast.walk(hint)}


def noticed(room, path, place):
    """Return whether a test fails on a mutant, and the line about it."""
    text, about = changed(path.read_text(), place)
    with tempfile.TemporaryDirectory() as home:
        copy = Path(home) / "dotledger"
        shutil.copytree(SOURCE, copy, ignore=shutil.ignore_patterns("__pycache__"))
        (copy / path.relative_to(SOURCE)).write_text(text)
        seen = any(fails(folder, home) for folder in ROOMS[room])
    print("noticed" if seen else "NOT noticed", f"{path.relative_to(SOURCE)}:{about}", flush=True)
    return seen, f"{path.relative_to(SOURCE)}:{about}"


def fails(folder, home):
    """Return whether the tests of a folder fail, or do not end, on the sources in `home`."""
    where = {
        **os.environ,
        "PYTHONPATH": f"{home}{os.pathsep}{ROOT}",
        "PYTHONDONTWRITEBYTECODE": "1",
    }
    words = [sys.executable, "-m", "unittest", "discover", "-f", "-s", folder, "-t", "."]
    try:
        done = subprocess.run(
            words, cwd=ROOT, env=where, capture_output=True, timeout=300, check=False
        )
    except subprocess.TimeoutExpired:
        return True
    return done.returncode != 0


def _check_unchanged():
    """Stop if the tests fail as things are: every mutant would count as noticed."""
    for folder in sorted({folder for folders in ROOMS.values() for folder in folders}):
        if fails(folder, SOURCE.parent):
            sys.exit(f"{folder} fails on the unchanged sources; mend that first")


def _option(name, otherwise):
    given = [word for word in sys.argv if word.startswith(f"--{name}=")]
    return int(given[-1].partition("=")[2]) if given else otherwise


def main(*, quick):
    """Print how many of a sample are noticed, and those that are not."""
    count, seed = _option("count", 30 if quick else 300), _option("seed", 1)
    chosen = sample(count, seed)
    _check_unchanged()
    with ThreadPoolExecutor(max_workers=os.cpu_count() or 2) as pool:
        results = list(pool.map(lambda one: noticed(*one), chosen))
    rooms = Counter(room for (room, _, _), (seen, _) in zip(chosen, results) if not seen)
    well = sum(seen for seen, _ in results)
    print(f"{well} of {count} noticed ({well / count:.0%}); not noticed by room: {dict(rooms)}")
