"""Made-up tables of every judged kind, with whatever a part may hold."""

import numpy as np

from dotledger import Annotations, Findings
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.table_origin import Origin

LABELS = {
    "object": ["basket", "drum", "lantern", "stall"],
    "face": ["face"],
    "label": ["dusk", "fair", "rain"],
    "unsafe": ["smoking", "weapon"],
}


def tables(images=120, *, seed=1):
    """Return findings and annotations: some images unanswered, some uncovered, rare labels."""
    rng = np.random.default_rng(seed)
    found, true, facts, marks = [], [], {}, []
    for number in range(images):
        name = f"{'fair' if number % 3 else 'Ufer'}/{number:03}.jpg"
        facts[name] = {
            "width": 200,
            "height": 200,
            **({"light": rng.choice(["day", "dusk"])} if number % 4 else {}),
        }
        for kind, labels in LABELS.items():
            blank = True
            for _ in range(rng.integers(0, 4)):
                label = labels[min(int(rng.geometric(0.5)) - 1, len(labels) - 1)]
                box = _box(rng) if kind in ("object", "face") else [np.nan] * 4
                if box[0] != box[0] and (name, kind, label) in {row[:3] for row in true}:
                    continue
                ignored = bool(rng.random() < 0.1)
                true.append((name, kind, label, *box, ignored))
                marks.append(
                    Details(attributes={"held": str(rng.integers(3))})
                    if rng.random() < 0.5
                    else None
                )
                if rng.random() < 0.8 and number % 11:
                    moved = [
                        float(c) for c in np.array(box) + np.r_[[rng.normal(0, 3)] * 2].repeat(2)
                    ]
                    found.append((name, kind, label, round(float(rng.beta(3, 2)), 2), *moved))
                blank = False
            if blank:
                true.append((name, kind, "", *[np.nan] * 4, False))
                marks.append(None)
            if number % 11 and rng.random() < 0.5:
                label = [*labels, "kite"][int(rng.integers(len(labels) + 1))]
                box = _box(rng) if kind in ("object", "face") else [np.nan] * 4
                sure = np.nan if rng.random() < 0.1 else round(float(rng.beta(2, 4)), 2)
                found += [(name, kind, label, sure, *box)] * (2 if rng.random() < 0.05 else 1)
            elif number % 11:
                found.append((name, kind, "", np.nan, *[np.nan] * 4))
    found.append(("elsewhere.jpg", "object", "drum", 0.5, 1.0, 1.0, 9.0, 9.0))
    names = ("image", "kind", "label", "confidence", "x0", "y0", "x1", "y1")
    findings = Findings.from_columns(**dict(zip(names, zip(*found))))
    names = ("image", "kind", "label", "x0", "y0", "x1", "y1", "ignore")
    truth = Annotations.from_columns(**dict(zip(names, zip(*true))), details=marks, images=facts)
    from dataclasses import replace

    return replace(findings, origin=Origin(service="flint", floor=0.02)), truth


def _box(rng):
    x, y = rng.uniform(0, 150, 2)
    w, h = rng.uniform(4, 48, 2)
    return [float(x), float(y), float(x + w), float(y + h)]
