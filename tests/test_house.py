"""The house: its public face, the direction of imports, what a start costs, its docstrings."""

import ast
import graphlib
import inspect
import pickle
import re
import subprocess
import sys
import unittest
from collections import Counter
from importlib import import_module
from pathlib import Path

import dotledger
from dotledger import errors

ROOT = Path(dotledger.__file__).parent
MODULES = sorted(
    "dotledger." + str(p.relative_to(ROOT).with_suffix("")).replace("/", ".")
    for p in ROOT.rglob("*.py")
    if p.stem != "__init__"
)


OTHERS = {
    "Any",
    "Axes",
    "Connection",
    "DataFrame",
    "Dialect",
    "Image",
    "Iterator",
    "NDArray",
    "None",
    "Path",
}
"""What public functions return that has its name elsewhere."""


def fresh(code):
    """Run code in a fresh process and return what it printed."""
    return subprocess.run(
        [sys.executable, "-c", code], capture_output=True, text=True, check=True
    ).stdout.strip()


class PublicFace(unittest.TestCase):
    def test_the_face_is_what_is_there(self):
        """Everything in ``__all__`` can be had, is sorted, and stands in its room's ``__all__``."""
        self.assertEqual(dotledger.__all__, sorted(dotledger.__all__))
        for name in dotledger.__all__:
            self.assertIsNotNone(getattr(dotledger, name))
        for name, home in dotledger._HOMES.items():
            self.assertIn(name, import_module(f"dotledger.{home}").__all__)
        with self.assertRaises(AttributeError):
            dotledger.nothing_of_this_name  # noqa: B018 - the access is the test

    def test_what_is_returned_has_a_public_name(self):
        """Each of our types that a public function or method returns can be named by a user."""
        import dotledger.typing as records

        public = {*dotledger.__all__, *records.__all__}
        for name in dotledger.__all__:
            one = getattr(dotledger, name)
            members = (
                [one, *(m for n, m in vars(one).items() if n[0] != "_")]
                if inspect.isclass(one)
                else [one]
            )
            for member in filter(inspect.isfunction, members):
                words = re.findall(r"\b[A-Z]\w+", str(inspect.signature(member).return_annotation))
                ours = {w for w in words if w not in OTHERS}
                self.assertEqual(ours - public, set(), f"{name}.{member.__name__}")

    def test_modules_declare_what_they_offer(self):
        """Every module has a docstring and an ``__all__`` whose names exist."""
        for name in MODULES:
            module = import_module(name)
            self.assertTrue(module.__doc__, name)
            for offered in getattr(module, "__all__", ()):
                self.assertTrue(hasattr(module, offered), f"{name}.{offered}")


class Imports(unittest.TestCase):
    def test_the_core_brings_no_interface_and_no_io(self):
        """In a fresh process the core loads none of the packages that act in the world."""
        core = [m for m in MODULES if ".core." in m]
        heavy = (
            "click",
            "rich",
            "PIL",
            "sqlalchemy",
            "urllib3",
            "pydantic",
            "pandas",
            "matplotlib",
            "sqlite3",
        )
        code = f"import sys, importlib; [importlib.import_module(m) for m in {core!r}]; print([h for h in {heavy!r} if h in sys.modules])"
        self.assertEqual(fresh(code), "[]")

    def test_the_library_never_loads_the_standins(self):
        """In a fresh process all rooms but the stand-ins load without them, and each alone."""
        rooms = [m for m in MODULES if ".standins." not in m and ".cli." not in m]
        code = f"import sys, importlib; [importlib.import_module(m) for m in {rooms!r}]; print([m for m in sys.modules if 'standins' in m or m in ('starlette', 'uvicorn')])"
        self.assertEqual(fresh(code), "[]")

    def test_the_face_is_lazy(self):
        """``import dotledger`` loads no room at all."""
        code = "import sys, dotledger; print([m for m in sys.modules if m.startswith('dotledger.') or m == 'numpy'])"
        self.assertEqual(fresh(code), "[]")

    def test_plain_names(self):
        """The core's names say findings, annotations and confidence, as its users do."""
        for path in sorted((ROOT / "core").rglob("*.py")):
            tree = ast.parse(path.read_text())
            names = {n.id for n in ast.walk(tree) if isinstance(n, ast.Name)}
            names |= {n.attr for n in ast.walk(tree) if isinstance(n, ast.Attribute)}
            names |= {n.arg for n in ast.walk(tree) if isinstance(n, (ast.arg, ast.keyword))}
            self.assertEqual(names & {"said", "truth", "sure"}, set(), path)

    def test_a_name_is_one_module(self):
        """A file is found by its name alone: no two modules share one."""
        names = Counter(path.stem for path in ROOT.rglob("*.py") if path.stem != "__init__")
        self.assertEqual([name for name, count in names.items() if count > 1], [])

    def test_no_circles(self):
        """No modules import each other in a circle, be it late or for types only."""
        known = {*MODULES, *(m.rpartition(".")[0] for m in MODULES)}
        arrows = {m: set() for m in known}
        for name in MODULES:
            path = ROOT / (name.removeprefix("dotledger.").replace(".", "/") + ".py")
            for node in ast.walk(ast.parse(path.read_text())):
                if isinstance(node, ast.ImportFrom) and node.module in known:
                    arrows[name] |= {
                        inner if (inner := f"{node.module}.{a.name}") in known else node.module
                        for a in node.names
                    }
        order = graphlib.TopologicalSorter(arrows)
        order.prepare()  # raises CycleError, which names the circle


class Errors(unittest.TestCase):
    def test_the_tree_is_drawn_as_it_is(self):
        """Every class stands in the drawing, indented below its parent, and is offered."""
        for name in errors.__all__:
            found = getattr(errors, name)
            self.assertTrue(issubclass(found, errors.DotLedgerError))
            self.assertIn(name, errors.__doc__)

    def test_facts_survive_and_messages_are_whole(self):
        """A message holds place, value, what is allowed, the next step; pickling keeps all."""
        error = errors.TableError(
            "not so", place="f.csv, line 2", got=3, allowed=["1", "2"], next_step="Mend it.", row=7
        )
        copy = pickle.loads(pickle.dumps(error))
        self.assertEqual(str(copy), "f.csv, line 2: not so; got 3; allowed: 1, 2. Mend it.")
        self.assertEqual((copy.row, copy.got, type(copy)), (7, 3, errors.TableError))
        self.assertIn("got None", str(errors.InputError("x", got=None)))
        self.assertLess(len(str(errors.InputError("x", got="y" * 10_000))), 120)


class Texts(unittest.TestCase):
    def test_no_options_below_the_command_line(self):
        """Texts of the library name arguments, not options; the command line translates them."""
        own = re.compile(r"(?<![\w-])--[a-z]{2,}")
        # A line for curl is read, not written; an upgrade has no call, only its command.
        reads = ("saved_requests.py", "public_calls.py", "rereading.py")
        for path in sorted(ROOT.rglob("*.py")):
            if {"cli", "standins"} & set(path.parts) or path.name in reads:
                continue
            for node in ast.walk(ast.parse(path.read_text())):
                told = node.value if isinstance(node, ast.Constant) else None
                if isinstance(told, str) and own.search(told) and "\n" not in told:
                    with self.subTest(path.name):
                        self.assertRegex(told, r"pip install --upgrade|doctor --upgrade|^ --ledger")


class Docstrings(unittest.TestCase):
    def test_raises_are_documented(self):
        """A public function that raises one of our input errors itself says so."""
        lacking = []
        for path in ROOT.rglob("*.py"):
            for node in ast.walk(ast.parse(path.read_text())):
                if (
                    isinstance(node, ast.FunctionDef)
                    and not node.name.startswith("_")
                    and _raises(node)
                ):
                    text = ast.get_docstring(node) or ""
                    lacking += (
                        [] if "Raises" in text or "raises" in text else [f"{path.name}:{node.name}"]
                    )
        allowed_without = {"command", "enter", "read", "give", "check", "send", "around"}
        self.assertEqual([n for n in lacking if n.partition(":")[2] not in allowed_without], [])

    def test_the_public_face_is_documented_in_full(self):
        """Parameters, what is returned and raised, and an example that runs."""
        for name in dotledger.__all__:
            value = getattr(dotledger, name)
            if not (inspect.isfunction(value) or inspect.isclass(value)):
                continue
            wanted = ["Examples"]
            if inspect.isfunction(value):
                wanted += ["Parameters", "Raises"]
                wanted += [] if "Yield" in value.__doc__ else ["Returns"]
            lines = inspect.getdoc(value).splitlines()
            for section in wanted:
                self.assertIn(section, lines, name)
                self.assertEqual(lines[lines.index(section) + 1], "-" * len(section), name)

    def test_whatever_a_room_offers_is_documented(self):
        """It has a docstring; what is public names every parameter, each in four words or more."""
        for name in MODULES:
            module = import_module(name)
            for offered in getattr(module, "__all__", ()):
                value = getattr(module, offered)
                if inspect.isfunction(value) or inspect.isclass(value):
                    self.assertTrue(inspect.getdoc(value), f"{name}.{offered}")
        for name in dotledger.__all__:
            value = getattr(dotledger, name)
            if inspect.isfunction(value):
                lacking = set(inspect.signature(value).parameters) - _documented(value)
                self.assertEqual(lacking, set(), name)
            for told, words in _descriptions(inspect.getdoc(value) or ""):
                self.assertGreaterEqual(len(words.split()), 4, f"{name}: {told}")


def _descriptions(text):
    """Return each parameter or result of a docstring, and what is said of it."""
    for section in re.findall(r"(?:Parameters|Returns|Attributes)\n-+\n((?:.+\n?)+)", text):
        yield from re.findall(r"^(\S.*)\n((?:    .*\n?)*)", section, re.MULTILINE)


def _documented(function):
    """Return the names before the colons of the section Parameters, however many stand together."""
    _, _, after = inspect.getdoc(function).partition("Parameters\n----------\n")
    lines = [line for line in after.partition("\n\n")[0].splitlines() if line[:1].strip()]
    return {n.strip(" *") for line in lines for n in line.partition(" :")[0].split(",")}


def _raises(function):
    direct = [
        n for n in ast.walk(function) if isinstance(n, ast.Raise) and isinstance(n.exc, ast.Call)
    ]
    return any(getattr(n.exc.func, "id", "") in errors.__all__ for n in direct)
