"""The slow reference: pairing and measures in plain loops and fractions.

Written from the definitions alone; nothing of the library is used.
"""

import math
from fractions import Fraction


def overlap(a, b):
    """Intersection over union of two boxes of whole numbers."""
    width = min(a[2], b[2]) - max(a[0], b[0])
    height = min(a[3], b[3]) - max(a[1], b[1])
    shared = max(width, 0) * max(height, 0)
    return Fraction(shared, area(a) + area(b) - shared)


def compared(share):
    """Overlaps and shares are compared to nine decimals."""
    return round(Fraction(share), 9)


def inside(finding, annotation):
    """Share of the finding that lies in the annotation."""
    width = min(finding[2], annotation[2]) - max(finding[0], annotation[0])
    height = min(finding[3], annotation[3]) - max(finding[1], annotation[1])
    return Fraction(max(width, 0) * max(height, 0), area(finding))


def area(box):
    return (box[2] - box[0]) * (box[3] - box[1])


def certainty(finding):
    """A finding without a confidence sorts before all others."""
    return 2 if finding["confidence"] is None else finding["confidence"]


def pair_group(findings, annotations, required):
    """Return [(finding, state, overlap)] for one image and label, visited as defined."""

    def visiting(finding):
        sizes = (
            compared(overlap(finding["box"], a["box"])) for a in annotations if not a["ignore"]
        )
        best = max(sizes, default=Fraction(0))
        return (-certainty(finding), -best, finding["box"])

    free = sorted((a for a in annotations if not a["ignore"]), key=lambda a: a["box"])
    ignored = [a for a in annotations if a["ignore"]]
    result = []
    for finding in sorted(findings, key=visiting):
        best = None
        for candidate in free:
            size = overlap(finding["box"], candidate["box"])
            if best is None or compared(size) > compared(best[0]):
                best = (size, candidate)
        if best is not None and compared(best[0]) >= compared(required):
            free = [a for a in free if a is not best[1]]
            result.append((finding, "right", best[0]))
        elif any(compared(inside(finding["box"], a["box"])) >= compared(required) for a in ignored):
            result.append((finding, "set aside", None))
        else:
            result.append((finding, "wrong", None))
    return result


def average_precision(judged, actual):
    """Exact area; `judged` holds (certainty, right)."""
    if actual == 0:
        return None
    points = []
    for level in sorted({c for c, _ in judged}, reverse=True):
        kept = [right for c, right in judged if c >= level]
        points.append((Fraction(sum(kept), actual), Fraction(sum(kept), len(kept))))
    total, before = Fraction(0), Fraction(0)
    for place, (recall, _) in enumerate(points):
        total += (recall - before) * max(p for _, p in points[place:])
        before = recall
    return total


def divided(a, b):
    return None if b == 0 else Fraction(a, b)


def row(judged, overlaps, actual, threshold):
    """Counts and measures of one label or of many pooled; `judged` as in average_precision."""
    least = -1 if threshold is None else threshold
    tp = sum(right for c, right in judged if c >= least)
    fp = sum(not right for c, right in judged if c >= least)
    passing = [size for c, size in overlaps if c >= least]
    return {
        "annotated": actual,
        "true_positives": tp,
        "false_positives": fp,
        "misses": actual - tp,
        "precision": divided(tp, tp + fp),
        "recall": divided(tp, actual),
        "f1": divided(2 * tp, 2 * tp + fp + actual - tp),
        "mean_overlap": divided(sum(passing), len(passing)),
        "average_precision": average_precision(judged, actual),
    }


def measure_boxes(findings, annotations, required, threshold):
    """Return {label: row} and the pooled row under None.

    Findings and annotations are dicts with image, label, box (and confidence or ignore); a
    blank finding has label "" and says that its image was answered.
    """
    covered = {a["image"] for a in annotations}
    scope = covered & {f["image"] for f in findings}
    labels = sorted({a["label"] for a in annotations if a["label"]})
    rows, everything, all_overlaps, total = {}, [], [], 0
    for label in labels:
        judged, overlaps, actual = [], [], 0
        for image in sorted(scope):
            here = [f for f in findings if f["image"] == image and f["label"] == label]
            true = [a for a in annotations if a["image"] == image and a["label"] == label]
            actual += sum(not a["ignore"] for a in true)
            for finding, state, size in pair_group(here, true, required):
                if state != "set aside":
                    judged.append((certainty(finding), state == "right"))
                if state == "right":
                    overlaps.append((certainty(finding), size))
        rows[label] = row(judged, overlaps, actual, threshold)
        everything += judged
        all_overlaps += overlaps
        total += actual
    rows[None] = row(everything, all_overlaps, total, threshold)
    return rows


def measure_presence(findings, annotations, threshold):
    """The same for kinds judged by presence, with true negatives."""
    covered = {a["image"] for a in annotations}
    scope = covered & {f["image"] for f in findings}
    labels = sorted({a["label"] for a in annotations if a["label"]})
    rows, everything, total, negatives = {}, [], 0, 0
    for label in labels:
        judged, actual, units = [], 0, 0
        for image in sorted(scope):
            true = [a for a in annotations if a["image"] == image and a["label"] == label]
            if any(a["ignore"] for a in true):
                continue
            units += 1
            actual += bool(true)
            said = [certainty(f) for f in findings if f["image"] == image and f["label"] == label]
            if said:
                judged.append((max(said), bool(true)))
        rows[label] = row(judged, [], actual, threshold)
        rows[label]["true_negatives"] = units - actual - rows[label]["false_positives"]
        everything += judged
        total += actual
        negatives += rows[label]["true_negatives"]
    rows[None] = row(everything, [], total, threshold)
    rows[None]["true_negatives"] = negatives
    for one in rows.values():
        clear = one["true_negatives"] + one["false_positives"]
        one["false_alarm_rate"] = divided(one["false_positives"], clear)
        right = one["recall"], divided(one["true_negatives"], clear)
        one["balanced_accuracy"] = None if None in right else sum(right) / 2
    return rows


def greatest_total(findings, annotations, required):
    """Largest total overlap of any one-to-one pairing in one image and label, by trying all."""
    if not findings:
        return Fraction(0)
    first, rest = findings[0], findings[1:]
    best = greatest_total(rest, annotations, required)
    for place, candidate in enumerate(annotations):
        size = overlap(first["box"], candidate["box"])
        if not candidate["ignore"] and compared(size) >= compared(required):
            others = annotations[:place] + annotations[place + 1 :]
            best = max(best, size + greatest_total(rest, others, required))
    return best


def count_errors(findings, annotations, required, threshold):
    """Return {label: [found - annotated for each image in scope]}; set aside does not count."""
    covered = {a["image"] for a in annotations}
    scope = covered & {f["image"] for f in findings}
    result = {}
    for label in sorted({a["label"] for a in annotations if a["label"]}):
        errors = []
        for image in sorted(scope):
            here = [f for f in findings if f["image"] == image and f["label"] == label]
            true = [a for a in annotations if a["image"] == image and a["label"] == label]
            said = [
                f for f, state, _ in pair_group(here, true, required)
                if state != "set aside" and certainty(f) >= (-1 if threshold is None else threshold)
            ]  # fmt: skip
            errors.append(len(said) - sum(not a["ignore"] for a in true))
        result[label] = errors
    return result


def screening(findings, annotations, threshold):
    """Return (caught, let through, false alarms, rightly passed) by image."""
    covered = {a["image"] for a in annotations}
    counts = [0, 0, 0, 0]
    for image in covered & {f["image"] for f in findings}:
        true = [a for a in annotations if a["image"] == image and a["label"]]
        doubtful = {a["label"] for a in true if a["ignore"]}
        unsafe = bool({a["label"] for a in true} - doubtful)
        stopped = any(
            f["label"] and certainty(f) >= threshold
            for f in findings if f["image"] == image
        )  # fmt: skip
        if unsafe or not doubtful:
            counts[(0 if unsafe else 2) + (not stopped)] += 1
    return tuple(counts)


def share_interval(cases, t):
    """Wilson's interval with the effective number of cases; `cases` are (x, m) by image.

    `t` gives the upper 97.5 % point of Student's t for so many degrees of freedom. A share of 0 or
    1 has the exact limit for as many cases as there are images, or cases where those are fewer.
    """
    cases = [(x, m) for x, m in cases if m > 0]
    n, x, m = len(cases), sum(x for x, _ in cases), sum(m for _, m in cases)
    if n < 2:
        return None
    p, fewest = x / m, min(m, n)
    if x == 0:
        return 0.0, 1 - 0.025 ** (1 / fewest)
    if x == m:
        return 0.025 ** (1 / fewest), 1.0
    v = variance(cases, p)
    return wilson(p, m / max(1, v / (p * (1 - p) / m)), t(n - 1))


def mean_interval(cases, t):
    """As `share_interval`, of a mean of values: `cases` are (sum of the values, how many) by image."""
    cases = [(x, m) for x, m in cases if m > 0]
    if len(cases) < 2:
        return None
    m = sum(m for _, m in cases)
    p = min(1.0, sum(x for x, _ in cases) / m)
    v = variance(cases, p)
    return wilson(p, p * (1 - p) / v if v > 1e-15 else m, t(len(cases) - 1))


def hybrid_interval(first, second, t):
    """Newcombe's interval of a difference of shares, second minus first; (x, m) by image of both."""
    p = [sum(x for x, _ in side) / sum(m for _, m in side) for side in (first, second)]
    (l_a, u_a), (l_b, u_b) = (share_interval(side, t) for side in (first, second))
    apart = [[x - q * m for x, m in side] for side, q in zip((first, second), p, strict=True)]
    squares = [sum(v * v for v in side) for side in apart]
    f = 0.0
    if all(squares):
        f = sum(v * w for v, w in zip(*apart, strict=True)) / (squares[0] * squares[1]) ** 0.5
    down, up = p[1] - l_b, u_a - p[0]
    low = p[1] - p[0] - (down**2 - 2 * f * down * up + up**2) ** 0.5
    up, down = u_b - p[1], p[0] - l_a
    return low, p[1] - p[0] + (up**2 - 2 * f * up * down + down**2) ** 0.5


def step_down(observed, moved):
    """Westfall and Young's adjusted p-values, in loops; `moved` has a list of rows for each exchange.

    Every exchange is there, the one observed among them.
    """
    n = len(observed)
    mean = [sum(row[r] for row in moved) / len(moved) for r in range(n)]
    s = [(sum((row[r] - mean[r]) ** 2 for row in moved) / len(moved)) ** 0.5 for r in range(n)]
    known = [r for r in range(n) if s[r] > 1e-9]
    size = {r: round(abs(observed[r]) / s[r], 9) for r in known}
    order = sorted(known, key=lambda r: -size[r])
    found, before = [None] * n, 0.0
    for k, r in enumerate(order):
        rest = order[k:]
        as_large = sum(max(round(abs(row[q]) / s[q], 9) for q in rest) >= size[r] for row in moved)
        before = found[r] = max(before, as_large / len(moved))
    return found


def variance(cases, p):
    n, m = len(cases), sum(m for _, m in cases)
    return n / (n - 1) * sum((x_i - p * m_i) ** 2 for x_i, m_i in cases) / m**2


def wilson(p, e, z):
    centre = (p + z * z / (2 * e)) / (1 + z * z / e)
    half = z * (p * (1 - p) / e + z * z / (4 * e * e)) ** 0.5 / (1 + z * z / e)
    return max(0.0, centre - half), min(1.0, centre + half)


def cases_by_image(findings, annotations, images, labels, required, threshold):
    """Return {label: {share: [(x, m) by image]}}; all labels together under None."""
    kept = [
        {"image": "elsewhere", "label": n, "box": (0, 0, 1, 1), "ignore": False} for n in labels
    ]
    found = {label: {"precision": [], "recall": [], "f1": []} for label in (*labels, None)}
    for image in images:
        here = [f for f in findings if f["image"] == image]
        true = [a for a in annotations if a["image"] == image]
        rows = measure_boxes(here, [*true, *kept], required, threshold)
        for label, cases in found.items():
            one = rows[label]
            hits, wrong = one["true_positives"], one["false_positives"]
            cases["precision"].append((hits, hits + wrong))
            cases["recall"].append((hits, hits + one["misses"]))
            cases["f1"].append((2 * hits, 2 * hits + wrong + one["misses"]))
    return found


def every_threshold(findings, annotations, required):
    """Return [(threshold, counts)] of all labels pooled, each threshold tried by itself."""
    levels = {c for c in _counted(findings, annotations, required) if c is not None}
    every = [*([1.0] if levels and max(levels) < 1 else []), *sorted(levels, reverse=True)]
    return [(t, measure_boxes(findings, annotations, required, t)[None]) for t in every]


def _counted(findings, annotations, required):
    """Return the confidences of what is not set aside."""
    kept = []
    images = {a["image"] for a in annotations} & {f["image"] for f in findings}
    for label in {a["label"] for a in annotations if a["label"]}:
        for image in images:
            here = [f for f in findings if f["image"] == image and f["label"] == label]
            true = [a for a in annotations if a["image"] == image and a["label"] == label]
            kept += [
                f["confidence"]
                for f, state, _ in pair_group(here, true, required)
                if state != "set aside"
            ]
    return kept


def chosen(tried, images, aim):
    """Return the best threshold and whether the aim is met, among all that were tried.

    `aim` is (measure, limit or None, beta); among equals the greater recall, then the threshold.
    """
    name, limit, beta = aim

    def value(row):
        if name == "f":
            b = Fraction(beta) ** 2
            found = row["true_positives"] + row["false_positives"]
            return divided((1 + b) * row["true_positives"], found + b * row["annotated"])
        if name == "false alarms":
            return Fraction(100 * row["false_positives"], images)
        if name == "cost":
            return Fraction(limit[0] * row["misses"] + limit[1] * row["false_positives"], images)
        return row[name]

    def key(number):
        return Fraction(-(10**9)) if number is None else number

    def best(rows, goal):
        return max(rows, key=lambda r: (key(goal(r[1])), key(r[1]["recall"]), r[0]))[0]

    if name == "cost":
        return best(tried, lambda row: -value(row)), True
    if limit is None:  # a best of nothing right is no success
        return best(tried, value), any(value(row) for _, row in tried)
    lower = name == "false alarms"
    meets = [
        r
        for r in tried
        if (v := value(r[1])) is not None and (v <= limit if lower else float(v) >= limit)
    ]
    then = (lambda row: row["precision"]) if name == "recall" else (lambda row: row["recall"])
    return (best(meets, then), True) if meets else (None, False)


def exact_mcnemar(one, other):
    """Twice the lower tail of the fair coin, summed up term by term."""
    n, low = one + other, min(one, other)
    return min(Fraction(1), 2 * sum(Fraction(math.comb(n, k), 2**n) for k in range(low + 1)))
