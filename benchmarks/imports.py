"""What ``import dotledger`` costs over ``import numpy``."""

import statistics
import subprocess
import sys


def _milliseconds(code):
    program = (
        f"import time; a = time.perf_counter(); {code}; print((time.perf_counter() - a) * 1000)"
    )
    times = [
        float(subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True).stdout)
        for _ in range(9)
    ]  # fmt: skip
    return statistics.median(times)


def main(quick=False):
    """Print medians of nine fresh processes."""
    del quick
    numpy = _milliseconds("import numpy")
    for code in ("import numpy, dotledger", "import numpy, dotledger; dotledger.measure"):
        print(f"{code}: {_milliseconds(code) - numpy:.0f} ms over import numpy (at most 60)")
