"""Answers in random invented dialects, with what was written into them.

Names that no list knows, five scales, six units and eleven ways of writing a box: to see what a
draft makes of a service that nobody thought of.
"""

import random

LABELS = ("label", "name", "tag", "noun", "entity", "wort", "designation", "cls", "species", "ident_name", "what")  # fmt: skip
SURE = ("confidence", "score", "surety", "belief", "q", "prob", "certainty", "chance", "conf")
BOXES = ("box", "rect", "area", "pos", "quad", "where_at", "frame", "bb", "extent")
LISTS = ("results", "items", "hits", "detections", "stuff", "payload", "findings", "seen", "data")
THINGS = ("crate", "ladder", "kettle", "wooden bench", "bicycle bell", "rope", "lamp post")
UNITS = ("pixels", "pixels", "fraction", "percent", "thousandths", "working")
FORMS = ("xyxy", "xywh", "yxyx", "cxcywh", "obj ltrb", "obj ltwh", "obj xywh", "obj cxcywh", "poly", "poly xy", "text")  # fmt: skip
SIZES = [(1200, 800), (900, 1350), (640, 480), (1024, 768)]


def _scaled(c, scale):
    return {
        "fraction": c, "percent": round(100 * c, 1), "percent text": f"{100 * c:.1f}%",
        "comma text": f"{100 * c:.1f} %".replace(".", ","), "thousandths": round(1000 * c),
    }[scale]  # fmt: skip


def _boxed(box, size, unit, form):
    x0, y0, x1, y1 = box
    working = 500 / max(size)

    def num(v, full):
        return {
            "pixels": v, "fraction": round(v / full, 5), "percent": round(100 * v / full, 3),
            "thousandths": round(1000 * v / full, 2), "working": round(v * working, 2),
        }[unit]  # fmt: skip

    a, b, c, d = (num(v, size[i % 2]) for i, v in enumerate(box))
    w, h = num(x1 - x0, size[0]), num(y1 - y0, size[1])
    cx, cy = num((x0 + x1) / 2, size[0]), num((y0 + y1) / 2, size[1])
    corners = [(a, b), (c, b), (c, d), (a, d)]
    return {
        "xyxy": [a, b, c, d], "xywh": [a, b, w, h], "yxyx": [b, a, d, c], "cxcywh": [cx, cy, w, h],
        "obj ltrb": {"left": a, "top": b, "right": c, "bottom": d},
        "obj ltwh": {"left": a, "top": b, "width": w, "height": h},
        "obj xywh": {"x": a, "y": b, "w": w, "h": h},
        "obj cxcywh": {"cx": cx, "cy": cy, "w": w, "h": h},
        "poly": [list(p) for p in corners], "poly xy": [{"x": x, "y": y} for x, y in corners],
        "text": f"{a},{b},{c},{d}",
    }[form]  # fmt: skip


def dialect(seed):
    """Return sizes, answers and what stands in each: (label, confidence, box in pixels)."""
    r = random.Random(seed)
    lab, con, box, lst = (r.choice(names) for names in (LABELS, SURE, BOXES, LISTS))
    scale = r.choice(["fraction", "percent", "percent text", "comma text", "thousandths"])
    unit, form = r.choice(UNITS), r.choice(FORMS)
    wrap, extra = r.choice(["plain", "nested", "deep", "by label", "beside"]), r.random() < 0.5
    sizes = SIZES[: r.choice([3, 4])]
    answers, truth = [], []
    for size in sizes:
        things = []
        for _ in range(r.randint(2, 6)):
            w, h = r.randint(40, size[0] // 3), r.randint(40, size[1] // 3)
            x, y = r.randint(0, size[0] - w), r.randint(0, size[1] - h)
            things.append((r.choice(THINGS), round(r.uniform(0.2, 0.99), 3), (x, y, x + w, y + h)))
        entries = []
        for label, c, corners in things:
            entry = {con: _scaled(c, scale), box: _boxed(corners, size, unit, form)}
            more = {"tracking": r.randint(1, 99), "colour": f"#{r.randrange(1 << 24):06x}"}
            named = {} if wrap == "by label" else {lab: label}
            entries.append({**named, **entry, **(more if extra else {})})
        labels = list(dict.fromkeys(label for label, _, _ in things))
        grouped = [
            {lab: n, "parts": [e for e, t in zip(entries, things) if t[0] == n]} for n in labels
        ]
        top = {
            "plain": {lst: entries}, "nested": {"response": {lst: entries}, "took": 3},
            "deep": {"pages": [{lst: entries}]}, "by label": {lst: grouped},
            "beside": {lst: entries, "model": {"name": "m1", "version": "3"}},
        }[wrap]  # fmt: skip
        if unit == "working":
            sides = [round(side * 500 / max(size), 2) for side in size]
            top["seen_as"] = dict(zip(("width", "height"), sides))
        answers.append(top)
        truth.append(things)
    return sizes, answers, truth
