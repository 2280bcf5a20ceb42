"""The tests; ``python -m unittest`` runs them side by side, see `tests.side_by_side`."""

import os

# The commands run without a terminal here, and the descriptions are the tests' own.
os.environ.setdefault("DOTLEDGER_AGREE_KEYS", "1")


def load_tests(loader, standard, pattern):
    """Give `unittest` all tests, as it asks for where a package holds more of them."""
    from tests.side_by_side import SideBySide, at_once, modules

    found = [loader.loadTestsFromName(name) for name in modules(pattern)]
    if at_once() == 1 or loader.testNamePatterns:
        standard.addTests(found)
        return standard
    return SideBySide(found)


def folder_tests(package):
    """Give a folder's ``load_tests``: ``python -m unittest tests.core`` runs all tests below it."""

    def load(loader, standard, pattern):
        from tests.side_by_side import modules

        below = [name for name in modules(pattern) if name.startswith(f"{package}.")]
        standard.addTests(loader.loadTestsFromName(name) for name in below)
        return standard

    return load
