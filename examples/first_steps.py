"""The whole job from Python, offline: send made-up scenes to a simulated service and measure.

Run it after ``pip install '.[demo]'``:  python examples/first_steps.py [FOLDER]
"""

import sys
import tempfile
from pathlib import Path

import dotledger
from dotledger.standins.evening_demo import evening_walk

folder = Path(sys.argv[1] if len(sys.argv) > 1 else tempfile.mkdtemp(prefix="dotledger-"))

with evening_walk(folder) as evening:  # scenes on disk, two simulated services on loopback
    sent = dotledger.send(
        evening.images,
        evening.services["flint"],  # your own service: the path of its description
        ledger=folder / "walk.ledger",  # every answer is kept here, so nothing is paid twice
        key=evening.keys["flint"],  # usually left out: the description says where the key is
    )
print(f"Batch {sent.batch}: {sent.calls} calls, {sent.money:.4f} {sent.currency}")

findings = dotledger.findings_of(folder / "walk.ledger", service="flint")
annotations = dotledger.read_annotations(folder / "annotations.csv")

result = dotledger.measure(findings, annotations, overlap=0.5, threshold=0.5)
faces = result.kinds["face"].pooled
print(f"Faces: {faces.misses} of {faces.annotated} missed, precision {faces.precision:.2f}")
print(result.frame()[["kind", "label", "annotated", "misses", "recall"]].to_string(index=False))

drawn = dotledger.draw(
    findings, evening.images, folder / "pictures", annotations=annotations, threshold=0.5
)
print(f"All images with their boxes: {drawn.sheet}")
