"""The tests; ``unittest-parallel --level class`` runs them in as many processes as there are processors."""

import os
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


load_tests = folder_tests(__name__)
