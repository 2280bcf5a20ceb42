"""Measures against one sort and one vectorised overlap of the same size, in the same run."""

import resource
import statistics
import subprocess
import sys
import time

import numpy as np

from dotledger import measure
from dotledger.core.boxes.box_overlap import overlap
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.name_codes import Coded

REQUIRED = tuple(np.round(np.arange(0.5, 1.0, 0.05), 2).tolist())


def made(images=5_000, annotations=36_000, findings=500_000, labels=80):
    """Make a set: findings scattered around annotations and elsewhere."""
    rng = np.random.default_rng(4)
    names, words = tuple(f"i{n}" for n in range(images)), tuple(f"l{n}" for n in range(labels))

    def boxes(count):
        corner = rng.uniform(0, 900, (count, 2))
        return np.hstack([corner, corner + rng.uniform(10, 100, (count, 2))])

    truth = Annotations(
        image=Coded(rng.integers(0, images, annotations), names),
        kind=Coded(np.zeros(annotations, dtype=np.intp), ("object",)),
        label=Coded(rng.integers(0, labels, annotations), words),
        box=boxes(annotations),
        ignore=rng.random(annotations) < 0.02,
    )
    near = rng.integers(0, annotations, findings)
    far = rng.random(findings) < 0.5
    image = np.where(far, rng.integers(0, images, findings), truth.image.codes[near])
    label = np.where(far, rng.integers(0, labels, findings), truth.label.codes[near])
    box = np.where(
        far[:, None], boxes(findings), truth.box[near] + rng.uniform(-8, 8, (findings, 4))
    )
    said = Findings(
        image=Coded(image, names),
        kind=Coded(np.zeros(findings, dtype=np.intp), ("object",)),
        label=Coded(label, words),
        confidence=np.round(rng.random(findings), 3),
        box=box,
    )
    return said, truth, labels


def yardstick(said, truth, labels):
    """One lexsort by image, label and confidence, one overlap of all pairs that share both."""
    groups = truth.image.codes * labels + truth.label.codes
    mine = said.image.codes * labels + said.label.codes
    order = np.argsort(groups, kind="stable")
    first = np.searchsorted(groups[order], mine, "left")
    count = np.searchsorted(groups[order], mine, "right") - first
    left = np.repeat(np.arange(len(mine)), count)
    right = order[np.arange(len(left)) - np.repeat(np.cumsum(count) - count - first, count)]
    a, b = said.box[left], truth.box[right]
    start = time.perf_counter()
    np.lexsort((-said.confidence, said.label.codes, said.image.codes))
    overlap(a, b)
    return time.perf_counter() - start


def measures(said, truth, draws=0):
    """Seconds for all measures at ten required overlaps, from the tables on."""
    start = time.perf_counter()
    measure(said, truth, overlap=REQUIRED, threshold=0.5, draws=draws)
    return time.perf_counter() - start


def peak():
    """Print this process's peak memory in MB after measuring, intervals and all."""
    said, truth, _ = made()
    measures(said, truth, draws=1000)
    print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)


def main(quick=False):
    """Print ratios, memory and growth."""
    data = made()
    said, truth, _ = data
    ratios, more = [], []
    for _ in range(5):
        plain = measures(said, truth)
        ratios.append(plain / yardstick(*data))
        more.append((measures(said, truth, draws=1000) - plain) / plain)
    print(
        f"500,000 findings, ten overlaps: {statistics.median(ratios):.1f} times one sort and one "
        f"overlap (at most 4); intervals {statistics.median(more):.1f} times that again (at most 6)"
    )
    words = [sys.executable, "-m", "benchmarks.measuring"]
    used = subprocess.run(words, capture_output=True, text=True, check=True).stdout
    print(f"peak memory with intervals: {float(used):.0f} MB (under 1,000)")
    if not quick:
        small = statistics.median(measures(said, truth) for _ in range(3))
        large = measures(*made(50_000, 360_000, 5_000_000)[:2])
        print(f"ten times the work in {large / small:.1f} times the time (at most 12)")


if __name__ == "__main__":
    peak()
