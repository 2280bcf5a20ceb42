"""Which small mistakes the tests would notice: one comparison, sign, boolean or constant at a time.

``python -m benchmarks mutants [--quick] [--count=N] [--seed=N] [--room=core/pairing]``. Each mutant is a copy of the sources with one
change; the tests of its room (with ``--room``: those of its own folder alone) run on it until one fails, those that reach the line first (``--near``: only those).
What no test notices is listed, to be looked at: some are equivalent to the original, the others want a test.
"""

import ast
import hashlib
import json
import os
import re
import shutil
import subprocess
import sys
import tempfile
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from functools import lru_cache
from pathlib import Path

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "dotledger"
MEASURING = ["tests/core/measurement", "tests/core/measures", "tests/core/questions"]
CHOOSING = ["tests/core/thresholds", "tests/core/comparison"]
SENDING = ["tests/services", "tests/sending"]
ROOMS = {
    "core/boxes": ["tests/core/boxes", "tests/core/questions", "tests/services", "tests/formats"],
    "core/tables": [
        "tests/core/tables",
        "tests/formats",
        *MEASURING,
        "tests/core/decisions",
        *CHOOSING,
    ],
    "core/pairing": ["tests/core/pairing", *MEASURING, *CHOOSING],
    "core/measures": ["tests/core/measures", *MEASURING, *CHOOSING],
    "core/measurement": [*MEASURING, "tests/formats"],
    "core/questions": ["tests/core/questions", "tests/core/tables", *MEASURING, "tests/report"],
    "core/thresholds": [*CHOOSING, *MEASURING],
    "core/comparison": ["tests/core/comparison", "tests/formats"],
    "core/decisions": ["tests/core/decisions", "tests/acting"],
    "reading": ["tests/reading", "tests/services", "tests/formats"],
    "services/request_building.py": SENDING,
    "services/body_forms.py": SENDING,
    "services/answer_reading.py": SENDING,
    "services/service_description.py": SENDING,
    "services/call_parts.py": SENDING,
    "sending/policies": ["tests/sending"],
    "images": ["tests/images", "tests/sending", "tests/acting"],
    "formats": ["tests/formats", "tests/core/tables", "tests/acting"],
}
"""The rooms that are changed, each with the folders whose tests should notice, the nearest first.

Drafting is not among them: its numbers are weights of guesses. Another weight is another guess, and
no mistake; `benchmarks drafting` counts how many are right.
"""

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
    line = text.splitlines()[node.lineno - 1].strip()
    about = f"{node.lineno}: {before}  ->  {after}   in: {line}"
    return ast.unparse(ast.fix_missing_locations(tree)), about


def sample(count, seed):
    """Return (room, file, place) of a random sample over the rooms.

    What decides on a place is a digest of what stands there and where, so that the sample stays
    the same while other code changes: what was mended is tried again.
    """
    every = []
    for room in ROOMS:
        paths = [SOURCE / room] if room.endswith(".py") else sorted((SOURCE / room).rglob("*.py"))
        for path in paths:
            every += [(_digest(seed, *one), room, path, one[-1]) for one in _listed(path)]
    return [one[1:] for one in sorted(every, key=lambda one: one[0])[:count]]


def _listed(path):
    """Yield (file, function, code, how many the same before it, number) of each place."""
    tree = ast.parse(path.read_text())
    hinted, inside, seen = _of_hints(tree), _functions(tree), Counter()
    for number, (node, what) in enumerate(places(tree)):
        if id(node) not in hinted and not (what == "constant" and _is_index_of_level(tree, node)):
            known = (str(path.relative_to(SOURCE)), inside.get(id(node), ""), ast.unparse(node))
            yield *known, seen[known], number
            seen[known] += 1


def _digest(seed, *known):
    return hashlib.sha256(repr((seed, *known[:-1])).encode()).hexdigest()


def _functions(tree):
    """Return the function that each node stands in, by the node's id."""
    inside = {}
    for node in ast.walk(tree):
        if isinstance(node, (ast.FunctionDef, ast.ClassDef)):
            for inner in ast.walk(node):
                inside[id(inner)] = f"{inside.get(id(inner), '')}.{node.name}"
    return inside


@lru_cache(maxsize=4)
def _levels(tree):
    """Return what is given to `Level` as its place in a list, where it is in none."""
    calls = [
        n
        for n in ast.walk(tree)
        if isinstance(n, ast.Call) and getattr(n.func, "id", "") == "Level"
    ]
    return {id(part) for call in calls for part in call.args}


def _is_index_of_level(tree, node):
    return id(node) in _levels(tree)


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


class Reaching:
    """Which tests reach a line, and how long each takes; recorded once, on the unchanged sources."""

    def __init__(self, folders):
        self.lines, self.seconds, self.of_folder = {}, {}, {}
        with tempfile.TemporaryDirectory() as home, ThreadPoolExecutor(os.cpu_count() or 2) as pool:
            for folder, kept in zip(folders, pool.map(lambda f: _recorded(f, home), folders)):
                self._add(folder, kept)

    def _add(self, folder, kept):
        self.seconds |= kept["seconds"]
        self.of_folder[folder] = set(kept["seconds"])
        for name, lines in kept["lines"].items():
            for line, tests in lines.items():
                self.lines.setdefault((name, int(line)), set()).update(tests)

    def tests(self, room, path, first, last):
        """Return the room's tests that reach these lines, the quickest first.

        What runs when a module is loaded belongs to no test: any of them may notice it.
        """
        own = set().union(*(self.of_folder[folder] for folder in ROOMS[room]))
        seen = set().union(*(self.lines.get((str(path), n), set()) for n in range(first, last + 1)))
        return sorted(own if "" in seen else own & seen, key=self.seconds.get)


def _recorded(folder, home):
    """Return what the tests of a folder reach; stop if they fail as things are."""
    out = Path(home) / (folder.replace("/", "-") + ".json")
    done = _program("record", folder, str(out), sources=SOURCE.parent)
    if done.returncode:
        sys.exit(f"{folder} fails on the unchanged sources; mend that first\n{done.stderr[-2000:]}")
    return json.loads(out.read_text())


def _program(*words, sources, timeout=1200):
    """Run `covering` in a process of its own, on these sources."""
    return subprocess.run(
        [sys.executable, "-m", "benchmarks.covering", *words],
        cwd=ROOT, capture_output=True, text=True, timeout=timeout, check=False,
        env={**os.environ, "PYTHONPATH": f"{sources}{os.pathsep}{ROOT}", "PYTHONDONTWRITEBYTECODE": "1"},
    )  # fmt: skip


def noticed(room, path, place, reaching):
    """Return whether a test fails on a mutant, and the line about it.

    The tests that reach the line come first. If none of them minds, all of the room's tests run:
    some drive the command in a process of its own, which is not recorded.
    """
    text, about = changed(path.read_text(), place)
    about = f"{path.relative_to(SOURCE)}:{about}"
    with tempfile.TemporaryDirectory() as home:
        copy = Path(home) / "dotledger"
        shutil.copytree(SOURCE, copy, ignore=shutil.ignore_patterns("__pycache__"))
        (copy / path.relative_to(SOURCE)).write_text(text)
        near = reaching.tests(room, path, *_lines(path, place))
        far = sorted(set().union(*(reaching.of_folder[f] for f in ROOMS[room])) - set(near))
        seen = _fails(near, home, reaching) or (
            "--near" not in sys.argv and _fails(far, home, reaching)
        )
    print("noticed" if seen else f"NOT noticed ({len(near)} reach it)", about, flush=True)
    return seen, about


def _lines(path, place):
    """Return the first and the last line of the smallest statement around a place."""
    tree = ast.parse(path.read_text())
    node = list(places(tree))[place][0]
    around = [
        s
        for s in ast.walk(tree)
        if isinstance(s, ast.stmt) and s.lineno <= node.lineno and node.end_lineno <= s.end_lineno
    ]
    least = min(around, key=lambda s: s.end_lineno - s.lineno)
    whole = not hasattr(least, "body")
    return (least.lineno, least.end_lineno) if whole else (node.lineno, node.end_lineno)


def _fails(tests, home, reaching):
    """Return whether one of the tests fails, or they do not end, on the sources in `home`."""
    if not tests:
        return False
    names = Path(home) / "tests.json"
    names.write_text(json.dumps(tests))
    allowed = 60 + 5 * sum(reaching.seconds[name] for name in tests)
    try:
        return bool(_program("run", str(names), sources=home, timeout=allowed).returncode)
    except subprocess.TimeoutExpired:
        return True


def _option(name, otherwise):
    given = [word for word in sys.argv if word.startswith(f"--{name}=")]
    return int(given[-1].partition("=")[2]) if given else otherwise


def equivalent():
    """Return the changes that change nothing anybody could see, each with the reason why."""
    lines = (Path(__file__).parent / "equivalent.txt").read_text().splitlines()
    pairs = [line.rsplit(" | ", 1) for line in lines if line and not line.startswith("#")]
    return dict(pairs)


def main(*, quick):
    """Print how many of a sample are noticed, those that are not, and those that nobody could."""
    count, seed = _option("count", 30 if quick else 300), _option("seed", 1)
    for word in sys.argv:
        if word.startswith("--room="):  # what somebody trusts who runs one folder's tests
            room = word.partition("=")[2]
            ROOMS.clear()
            ROOMS[room] = [f"tests/{room}"]
    same = equivalent()
    chosen = sample(count, seed)
    named = {
        one: f"{one[1].relative_to(SOURCE)}:{changed(one[1].read_text(), one[2])[1]}"
        for one in chosen
    }
    told = {
        one: same[_NUMBER.sub(":", line)]
        for one, line in named.items()
        if _NUMBER.sub(":", line) in same
    }
    for one, why in told.items():
        print(f"equivalent {named[one]} ({why})")
    tried = [one for one in chosen if one not in told]
    reaching = Reaching(sorted({folder for room, _, _ in tried for folder in ROOMS[room]}))
    with ThreadPoolExecutor(max_workers=os.cpu_count() or 2) as pool:
        results = list(pool.map(lambda one: noticed(*one, reaching), tried))
    rooms = Counter(room for (room, _, _), (seen, _) in zip(tried, results) if not seen)
    well = sum(seen for seen, _ in results)
    share = f"{well} of {len(tried)} noticed ({well / len(tried):.1%})"
    print(f"{share}, {len(told)} equivalent; not noticed by room: {dict(rooms)}")


_NUMBER = re.compile(r":\d+: ")
