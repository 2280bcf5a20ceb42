"""The tests; ``python -m unittest`` runs their classes in as many processes as there are processors.

One process takes much longer: tests wait for senders, databases and browsers.
Folders, modules, classes and single tests run in this process, as ever.
"""

import multiprocessing
import os
import unittest
from concurrent.futures import ProcessPoolExecutor, as_completed
from pathlib import Path

_TOP = str(Path(__file__).parent.parent)

# The commands run without a terminal here, and the descriptions are the tests' own.
os.environ.setdefault("DOTLEDGER_AGREE_KEYS", "1")


def folder_tests(package):
    """Give a folder's ``load_tests``: ``python -m unittest tests.core`` runs all tests below it."""
    folder = str(Path(_TOP, *package.split(".")))

    def load(loader, standard, pattern):
        standard.addTests(loader.discover(folder, pattern or "test*.py", _TOP))
        return standard

    return load


def load_tests(loader, standard, pattern):
    """Give all tests, for ``python -m unittest`` and ``python -m unittest tests``."""
    found = folder_tests(__name__)(loader, standard, pattern)
    return found if loader.testNamePatterns else _InProcesses(found)


class _InProcesses(unittest.TestSuite):
    """A suite whose classes run in other processes; what happens there is told to the result here.

    Classes that say `alone` go first, one at a time: they start many processes of their own. Those that
    wait go next, so that the last ones to end are short.
    """

    def run(self, result, debug=False):
        """Run all classes; a process that dies is an error of the class that it ran."""
        loaded, classes = [], {}
        for test in _flat(self):
            if type(test).__module__ == "unittest.loader":  # a module that cannot be loaded
                loaded.append(test)
            else:
                classes[f"{type(test).__module__}.{type(test).__qualname__}"] = type(test)
        unittest.TestSuite(loaded).run(result)
        early = ("sending", "ledger", "examples", "unseen", "readme", "acting", "cli")
        names = sorted(
            classes,
            key=lambda name: next((n for n, word in enumerate(early) if word in name), len(early)),
        )
        alone = [name for name in names if getattr(classes[name], "alone", False)]
        for name in alone:
            _run_all([name], 1, result)
        _run_all([name for name in names if name not in alone], os.cpu_count(), result)
        return result


def _flat(suite):
    for test in suite:
        yield from _flat(test) if isinstance(test, unittest.TestSuite) else (test,)


def _run_all(names, processes, result):
    spawn = multiprocessing.get_context("spawn")
    with ProcessPoolExecutor(processes, mp_context=spawn) as pool:
        waiting = {pool.submit(_run_class, name): name for name in names}
        for done in as_completed(waiting):
            try:
                told = done.result()
            except Exception as error:
                told = [("addError", waiting[done], repr(error))]
            for what, name, text in told:
                _tell(result, what, name, text)


def _ran_elsewhere(name):
    def test(): ...

    test.__name__ = name
    return test


def _tell(result, what, name, text):
    test = unittest.FunctionTestCase(_ran_elsewhere(name))
    details = {"addSuccess": (), "addSkip": (text,)}
    result.startTest(test)
    elsewhere = (AssertionError, AssertionError(text), None)
    getattr(result, what)(test, *details.get(what, (elsewhere,)))
    result.stopTest(test)


class _Kept(unittest.TestResult):
    """Remembers what passed too."""

    def __init__(self):
        super().__init__()
        self.passed = []

    def addSuccess(self, test):  # noqa: N802 - as unittest calls it
        self.passed.append(str(test))


def _run_class(name):
    kept = _Kept()
    unittest.defaultTestLoader.loadTestsFromName(name).run(kept)
    return [
        *(("addSuccess", name, "") for name in kept.passed),
        *(("addFailure", str(test), text) for test, text in kept.failures),
        *(("addError", str(test), text) for test, text in kept.errors),
        *(("addSkip", str(test), reason) for test, reason in kept.skipped),
    ]
