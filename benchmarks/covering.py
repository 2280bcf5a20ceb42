"""Which test runs which line: so that a changed line is tried with the tests that reach it, quickest first.

Run as a program in a process of its own, ``python -m benchmarks.covering record FOLDER FILE`` writes what the
tests of a folder reach, and ``... run FILE`` runs the named tests until one fails.
"""

import json
import sys
import time
import unittest
from pathlib import Path


class _Timed(unittest.TextTestResult):
    """Tells the recorder which test is running, and keeps how long each took."""

    recorder = None
    seconds: dict[str, float] = {}  # noqa: RUF012 - one run in a process

    def startTest(self, test):  # noqa: N802
        self._began = time.perf_counter()
        _Timed.recorder.switch_context(test.id())
        super().startTest(test)

    def stopTest(self, test):  # noqa: N802
        super().stopTest(test)
        _Timed.recorder.switch_context("")
        _Timed.seconds[test.id()] = time.perf_counter() - self._began


def record(folder, out):
    """Run the tests of a folder and write (file, line, test) with the time of each test."""
    import coverage

    recorder = coverage.Coverage(data_file=None, source=["dotledger"], config_file=False)
    _Timed.recorder = recorder
    recorder.start()
    tests = unittest.defaultTestLoader.discover(folder, top_level_dir=".")
    result = unittest.TextTestRunner(resultclass=_Timed, verbosity=0).run(tests)
    recorder.stop()
    data = recorder.get_data()
    lines = {
        Path(name).as_posix(): dict(data.contexts_by_lineno(name)) for name in data.measured_files()
    }
    Path(out).write_text(json.dumps({"lines": lines, "seconds": _Timed.seconds}))
    return result.wasSuccessful()


def run(names):
    """Run the named tests in this order; return whether all of them pass."""
    loader = unittest.defaultTestLoader
    suite = unittest.TestSuite(loader.loadTestsFromName(name) for name in names)
    return unittest.TextTestRunner(verbosity=0, failfast=True).run(suite).wasSuccessful()


if __name__ == "__main__":
    what, *rest = sys.argv[1:]
    well = record(*rest) if what == "record" else run(json.loads(Path(rest[0]).read_text()))
    sys.exit(not well)
