"""How often a draft of a service that nobody thought of is right, asks, or is wrong in silence."""

import json
from collections import Counter

from dotledger.services.drafting import described_draft, draft, read_samples
from tests.services.dialects import dialect


def judged(seed):
    """Return what a draft makes of one random dialect."""
    sizes, answers, truth = dialect(seed)
    known = [tuple(map(float, size)) for size in sizes]
    made = draft(answers, known)
    if not made.sure:
        return "left open"
    raw = [json.dumps(answer).encode() for answer in answers]
    readings = read_samples(described_draft(made, name="mine", address="http://h"), raw, known)
    right = all(_same(r.found, things) for r, things in zip(readings, truth))
    asked = " and asks" if made.questions else ""
    return f"{'right' if right else 'wrong'}{asked}"


def _same(found, things):
    left = sorted((label, sure, box) for label, sure, box in things)
    mine = sorted((f.label, f.confidence or -1.0, f.box or ()) for f in found)
    return len(left) == len(mine) and all(
        a[0] == b[0]
        and abs(a[1] - b[1]) <= 0.006
        and len(b[2]) == 4
        and max(abs(x - y) for x, y in zip(a[2], b[2])) <= 2.5
        for a, b in zip(left, mine)
    )


def main(*, quick):
    """Print counts over random dialects."""
    count = 200 if quick else 2000
    counts = Counter(judged(seed) for seed in range(5000, 5000 + count))
    for what, times in counts.most_common():
        print(f"{what}: {times} of {count} ({times / count:.1%})")
