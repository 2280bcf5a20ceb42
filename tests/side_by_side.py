"""Runs the tests in as many processes as there are processors, a class at a time.

``python -m unittest`` comes here by `tests.load_tests`; single modules, classes and tests run as ever. A
class that says `alone` runs before all others and beside none: what it says is of processes and their time.
With ``DOTLEDGER_TESTS_AT_ONCE=1`` all run in this process, one after another; with
``DOTLEDGER_TESTS_SLOWEST=20`` the classes that took longest are named at the end.
"""

import json
import os
import subprocess
import sys
import threading
import time
import unittest
import warnings
from pathlib import Path

ROOT = Path(__file__).parent.parent
# Those that wait for other processes go first: the last ones to end should be short.
FIRST = ("sending", "ledger", "examples", "unseen", "readme", "acting", "cli")


def at_once():
    """How many processes are used."""
    return int(os.environ.get("DOTLEDGER_TESTS_AT_ONCE") or os.cpu_count() or 1)


def modules(pattern=None):
    """The names of all modules with tests, in the order in which they begin."""
    found = sorted(Path(__file__).parent.rglob(pattern or "test_*.py"))
    names = [".".join(one.relative_to(ROOT).with_suffix("").parts) for one in found]
    return sorted(names, key=lambda name: next((n for n, w in enumerate(FIRST) if w in name), 99))


class SideBySide(unittest.TestSuite):
    """All tests; processes take one class after another, and what became of it is told here."""

    def __init__(self, suites):
        super().__init__(suites)
        alone = {_class_of(test): getattr(test, "alone", False) for test in _flat(self)}
        self.together = [name for name, said in alone.items() if not said]
        self.alone = [name for name, said in alone.items() if said]
        self.took = {}

    def run(self, result, debug=False):
        """Run all; results are those of the processes."""
        self._run(result, self.alone, 1)
        self._run(result, self.together, at_once())
        for name in self.slowest(int(os.environ.get("DOTLEDGER_TESTS_SLOWEST") or 0)):
            print(f"{self.took[name]:6.1f} s  {name}", file=sys.stderr)
        return result

    def slowest(self, most):
        """The classes that took longest, the longest first."""
        return sorted(self.took, key=self.took.get, reverse=True)[:most]

    def _run(self, result, names, processes):
        waiting, telling = list(reversed(names)), threading.Lock()

        def work():
            with _worker() as worker:
                while waiting and not result.shouldStop:
                    name, began = waiting.pop(), time.monotonic()
                    worker.stdin.write(f"{name}\n")
                    worker.stdin.flush()
                    line = worker.stdout.readline()
                    self.took[name] = time.monotonic() - began
                    with telling:
                        _tell(result, name, json.loads(line) if line else None)
                    if not line:
                        return
                worker.stdin.close()

        threads = [threading.Thread(target=work) for _ in range(processes)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        for name in waiting:  # every process died
            _tell(result, name, None)


def _flat(suite):
    for test in suite:
        yield from _flat(test) if isinstance(test, unittest.TestSuite) else (test,)


def _class_of(test):
    if type(test).__module__ == "unittest.loader":  # a module that cannot be loaded
        return test.id().rpartition(".")[2]
    return f"{type(test).__module__}.{type(test).__qualname__}"


def _worker():
    words = [sys.executable, *(f"-W{w}" for w in sys.warnoptions), "-m", "tests.side_by_side"]
    pipes = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE}
    # What Python knows of the environment: readline, once loaded, sets COLUMNS behind its back.
    return subprocess.Popen(words, text=True, cwd=ROOT, env=dict(os.environ), **pipes)


class _Told:
    """A test that ran elsewhere."""

    failureException = AssertionError

    def __init__(self, name):
        self._name = name

    def id(self):
        return self._name

    def shortDescription(self):  # noqa: N802 - as unittest calls it
        return None

    def __str__(self):
        return self._name


class Elsewhere(Exception):
    """What a test in another process raised: its message holds the whole traceback."""


def _tell(result, name, told):
    if told is None:
        told = {"errors": [[name, "the process that ran this ended"]]}
    for what in told.get("passed", ()):
        result.startTest(_Told(what))
        result.addSuccess(_Told(what))
        result.stopTest(_Told(what))
    for kind, add in (("failures", result.addFailure), ("errors", result.addError)):
        for what, text in told.get(kind, ()):
            result.startTest(_Told(what))
            add(_Told(what), (Elsewhere, Elsewhere(text), None))
            result.stopTest(_Told(what))
    for what, reason in told.get("skipped", ()):
        result.startTest(_Told(what))
        result.addSkip(_Told(what), reason)
        result.stopTest(_Told(what))


class _Kept(unittest.TestResult):
    """Remembers what passed too."""

    def __init__(self):
        super().__init__()
        self.passed = []

    def addSuccess(self, test):  # noqa: N802 - as unittest calls it
        self.passed.append(str(test))


def _run(name):
    kept = _Kept()
    unittest.defaultTestLoader.loadTestsFromName(name).run(kept)
    return {
        "passed": kept.passed,
        "failures": [[str(test), text] for test, text in kept.failures],
        "errors": [[str(test), text] for test, text in kept.errors],
        "skipped": [[str(test), reason] for test, reason in kept.skipped],
    }


def main():
    """Run the classes whose names come in, one a line; tell what became of each, one a line."""
    if not sys.warnoptions:
        warnings.simplefilter("default")
    with os.fdopen(os.dup(sys.stdout.fileno()), "w") as out, os.fdopen(os.dup(0), "r") as given:
        os.dup2(sys.stderr.fileno(), sys.stdout.fileno())  # what tests print is not an answer
        os.dup2(os.open(os.devnull, os.O_RDONLY), 0)  # what tests start must not read our classes
        for line in given:
            out.write(json.dumps(_run(line.strip())) + "\n")
            out.flush()


if __name__ == "__main__":
    main()
