"""How often a draft of a service that nobody thought of is right, asks, or is wrong in silence."""

import json
from collections import Counter

from dotledger.errors import DotLedgerError
from dotledger.services.drafting import described_draft, read_samples, whole_draft
from tests.services.answer_grammar import drawn


def judged(seed):
    """Return what a draft makes of one made-up service: right, asks, open, or wrong."""
    sizes, answers, truth = drawn(seed)
    known = [tuple(map(float, size)) for size in sizes]
    raw = [json.dumps(answer).encode() for answer in answers]
    try:
        made = whole_draft(raw, known)
    except DotLedgerError:
        return "refused"
    if not made.sure:
        return "left open"
    text = described_draft(made, name="mine", address="http://h", assume=True)
    readings = read_samples(text, raw, known)
    right = all(same(r.found, things) for r, things in zip(readings, truth))
    if made.questions:
        return "asks, the likeliest answer is right" if right else "asks"
    return "right" if right else "wrong in silence"


def same(found, things):
    """Tell whether what was read is what stands there."""
    left = sorted((kind, label, c, box or ()) for kind, label, c, box in things)
    mine = sorted(
        (f.kind, f.label, -1.0 if f.confidence is None else f.confidence, f.box or ())
        for f in found
    )
    return len(left) == len(mine) and all(_near(a, b) for a, b in zip(left, mine))


def _near(a, b):
    boxes = len(a[3]) == len(b[3]) and all(abs(x - y) <= 2.5 for x, y in zip(a[3], b[3]))
    return a[:2] == b[:2] and abs(a[2] - b[2]) <= 0.006 and boxes


def main(*, quick):
    """Print counts over random services."""
    count = 300 if quick else 5000
    counts = Counter(judged(seed) for seed in range(5000, 5000 + count))
    for what, times in counts.most_common():
        print(f"{what}: {times} of {count} ({times / count:.1%})")
