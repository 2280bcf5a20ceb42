"""Run benchmarks: ``python -m benchmarks [sending] [imports] [--quick]``."""

import importlib
import sys

NAMES = (
    *("imports", "reading", "drafting", "measuring", "intervals", "choosing", "growing"),
    *("sending", "looking", "copying", "reporting", "sentences", "descriptions"),
)
# "faults", "mutants", "million", "scaling" and "together" are not among them: they take long, or need a database
# server; name them.

wanted = [word for word in sys.argv[1:] if not word.startswith("-")] or NAMES
for name in wanted:
    print(f"== {name}")
    importlib.import_module(f"benchmarks.{name}").main(quick="--quick" in sys.argv)
