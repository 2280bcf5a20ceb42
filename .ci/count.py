"""Print "N passed, N failed" from unittest's closing lines and the number of failed steps."""

import re
import sys
from pathlib import Path

text = Path(sys.argv[1]).read_text(errors="replace")
status, steps, steps_failed = map(int, sys.argv[2:5])
ran = int((re.findall(r"^Ran (\d+) tests? in", text, re.MULTILINE) or ["0"])[-1])
closing = (re.findall(r"^(?:FAILED|OK) \((.*)\)$", text, re.MULTILINE) or [""])[-1]
counts = {name: int(value) for name, value in re.findall(r"([a-z ]+)=(\d+)", closing)}
skipped = counts.pop("skipped", 0)
counts.pop(" expected failures", None)
bad = sum(counts.values())
if (status and not bad) or not ran:
    bad += 1
passed = max(0, ran - bad - skipped) + steps - steps_failed
print(f"{passed} passed, {bad + steps_failed} failed, {skipped} skipped")
sys.exit(bool(bad + steps_failed))
