"""How right, how sure, and why wrong: look into a measure from Python, offline.

Run it after ``pip install '.[demo]'``:  python examples/why_wrong.py [FOLDER]
"""

import sys
import tempfile
from pathlib import Path

import dotledger
from dotledger.standins.evening_demo import evening_walk

folder = Path(sys.argv[1] if len(sys.argv) > 1 else tempfile.mkdtemp(prefix="dotledger-"))
ledger = folder / "walk.ledger"

with evening_walk(folder, services=("marl",)) as evening:
    dotledger.send(
        evening.images, evening.services["marl"], ledger=ledger, key=evening.keys["marl"]
    )

findings = dotledger.findings_of(ledger, service="marl")
truth = dotledger.read_annotations(folder / "annotations.csv", images=folder / "images.csv")
kinds = ["object", "face"]
result = dotledger.measure(findings, truth, kinds=kinds, threshold={"object": 0.6, "face": 0.5})

objects = result.kinds["object"].pooled
low, high = objects.intervals["precision"]
print(f"Objects: precision {objects.precision:.2f}, between {low:.2f} and {high:.2f}")

why = result.why()
for side in ("wrong", "missed"):
    for reason, (count, share) in why.totals(side).items():
        print(f"{side:>6}: {reason:<22} {count:3} ({share:.0%})")

print(result.by("size")["face"].frame()[["slice", "annotated", "misses", "recall"]].to_string())

# a mapping of confidences is fitted on some images and judged on the others
names = truth.image.used()
mapping = dotledger.fit_confidence_map(findings, truth, kinds=["object"], images=names[::2])
others = truth.take(truth.image.among(names[1::2]))
for name, table in (("as answered", findings), ("mapped", mapping.apply(findings))):
    found = dotledger.measure(table, others, kinds=["object"]).reliability()["object"]
    print(f"Confidences {name}: calibration error {found.expected_calibration_error:.3f}")
