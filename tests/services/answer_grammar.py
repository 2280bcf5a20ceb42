"""Answers of services that nobody made: drawn from a grammar of how services answer.

It is written from what services do, and not from what drafting knows: its names come from several
languages and from haste, and its shapes are put together at random. Each draw says what a person
would read from it.
"""

import random

SIZES = [(1200, 800), (900, 1350), (640, 480), (1024, 768), (1500, 700), (720, 1280)]
THINGS = [
    *("crate", "ladder", "kettle", "wooden bench", "bicycle bell", "rope", "lamp post", "bucket"),
    *("tin can", "broom", "chair", "basket"),
]
SCENES = ["harbour", "morning", "crowd", "market", "rain", "evening walk", "quay", "festival"]
HAZARDS = ["spilled oil", "loose wire", "sharp edge", "open flame", "smoke", "broken glass"]

_LABELS = {
    "usual": ["label", "name", "class", "tag", "category", "title", "description", "concept"],
    "other": [
        "nm",
        "bezeichnung",
        "etiqueta",
        "libelle",
        "lbl",
        "guess",
        "is_a",
        "answer",
        "ident",
    ],
}
_SCORES = {
    "usual": ["score", "confidence", "probability", "conf", "prob", "likelihood", "certainty"],
    "other": ["fidelity", "zuversicht", "puntaje", "fiab", "reliability", "w", "cert", "mark"],
}
_BOXES = ["box", "bbox", "rect", "region", "loc", "where", "kasten", "cadre", "bounds", "geom"]
_LISTS = ["objects", "items", "hits", "dets", "treffer", "resultats", "regions", "seen", "out", "r"]
_TAGS = ["labels", "tags", "scene", "keywords", "classes", "topics"]
_FACES = ["faces", "face_list", "heads", "face_annotations"]
_UNSAFE = ["moderation", "unsafe", "safety", "hazards", "risk_flags", "warnings"]
_WRAPS = [[], [], ["result"], ["data"], ["response", "payload"], ["pages", 0], ["results", 0]]
_WORDS = ["DOUBTFUL", "MAYBE", "PROBABLE"]


def _name(r, names):
    return r.choice(names["usual"] if r.random() < 0.65 else names["other"])


class Service:
    """One made-up service: everything that it does the same way in every answer."""

    def __init__(self, seed):
        r = self.r = random.Random(seed)
        self.label, self.score = _name(r, _LABELS), _name(r, _SCORES)
        self.box, self.list = r.choice(_BOXES), r.choice(_LISTS)
        self.scale = r.choice(
            ["fraction"] * 6 + ["percent"] * 3 + ["percent text", "comma text", "thousand", "byte"]
        )
        self.unit = r.choice(
            ["pixels"] * 5 + ["fraction"] * 4 + ["percent", "thousandths", "working"]
        )
        self.form = r.choice(
            ["xyxy"] * 3 + ["xywh"] * 3 + ["yxyx", "cxcywh"] + ["ltrb", "ltwh", "xywh object", "minmax"] * 2
            + ["cxcywh object", "two points", "nested min max", "ring", "ring xy", "text", "flat", "x1y1x2y2"]
        )  # fmt: skip
        self.layout = r.choice(
            ["list"] * 6
            + ["by label", "map by id", "rows", "table", "side by side", "one list", "by name"]
        )
        self.wrap = r.choice(_WRAPS)
        self.tags = r.choice(["list", "list", "map", "one key", "none", "none"])
        self.faces = r.choice(["list", "none", "none"])
        self.unsafe = r.choice(["list", "map", "words", "flags", "none", "none", "none"])
        if self.layout == "one list":
            self.tags = self.faces = "none"
        self.tag_list, self.face_list = r.choice(_TAGS), r.choice(_FACES)
        self.unsafe_list = r.choice(_UNSAFE)
        self.noise = r.sample(["track", "rank", "area", "flag", "colour", "when", "nothing"], 2)
        self.round = r.choice([2, 3, 4])

    def confidence(self, c):
        if self.scale == "fraction":
            return round(c, self.round)
        if self.scale == "percent":
            return round(100 * c, 1)
        text = f"{100 * c:.1f}"
        return {
            "percent text": f"{text}%", "comma text": text.replace(".", ",") + " %",
            "thousand": round(1000 * c), "byte": round(255 * c),
        }[self.scale]  # fmt: skip

    def boxed(self, box, size):
        x0, y0, x1, y1 = box
        shrink = 512 / max(size)

        def num(v, full):
            return {
                "pixels": v, "fraction": round(v / full, 5), "percent": round(100 * v / full, 3),
                "thousandths": round(1000 * v / full), "working": round(v * shrink, 1),
            }[self.unit]  # fmt: skip

        a, b, c, d = (num(v, size[i % 2]) for i, v in enumerate(box))
        w, h = num(x1 - x0, size[0]), num(y1 - y0, size[1])
        cx, cy = num((x0 + x1) / 2, size[0]), num((y0 + y1) / 2, size[1])
        ring = [[a, b], [c, b], [c, d], [a, d]]
        return {
            "xyxy": [a, b, c, d], "xywh": [a, b, w, h], "yxyx": [b, a, d, c], "cxcywh": [cx, cy, w, h],
            "ltrb": {"left": a, "top": b, "right": c, "bottom": d},
            "ltwh": {"left": a, "top": b, "width": w, "height": h},
            "xywh object": {"x": a, "y": b, "w": w, "h": h},
            "minmax": {"xmin": a, "ymin": b, "xmax": c, "ymax": d},
            "cxcywh object": {"cx": cx, "cy": cy, "w": w, "h": h},
            "two points": {"top_left": {"x": a, "y": b}, "bottom_right": {"x": c, "y": d}},
            "nested min max": {"min": [a, b], "max": [c, d]},
            "ring": ring, "ring xy": {"vertices": [{"x": x, "y": y} for x, y in ring]},
            "text": f"{a},{b},{c},{d}", "flat": [v for p in ring for v in p],
            "x1y1x2y2": {"x1": a, "y1": b, "x2": c, "y2": d},
        }[self.form]  # fmt: skip

    def extras(self, place):
        r = self.r
        made = {
            "track": ("track_id", r.randint(1000, 9999)), "rank": ("rank", place + 1),
            "area": ("area", r.randint(900, 90000)), "flag": ("truncated", r.random() < 0.2),
            "colour": ("hex", f"#{r.randrange(1 << 24):06x}"), "when": ("ts", 1700000000 + r.randrange(9999)),
        }  # fmt: skip
        return dict(made[one] for one in self.noise if one in made)

    def answer(self, size):
        """Return one answer to an image of a size, and what stands in it."""
        r, truth = self.r, []
        body = {"model": "m-7b"} if r.random() < 0.3 else {}
        things = [self._thing(size) for _ in range(r.randint(1, 6))]
        truth += [("object", *one) for one in things]
        if self.layout == "one list":
            scenes = [(label, self._sure()) for label in r.sample(SCENES, 2)]
            truth += [("label", label, c, None) for label, c in scenes]
            body[self.list] = [
                {"type": "object", **self._entry(one, size, n)} for n, one in enumerate(things)
            ] + [
                {"type": "label", self.label: t, self.score: self.confidence(c), self.box: None}
                for t, c in scenes
            ]
        else:
            body |= self._objects(things, size)
        for make in (self._tags, self._faces, self._unsafe):
            made, found = make(size)
            body |= made
            truth += found
        if self.unit == "working":
            body["processed_size"] = {
                k: round(v * 512 / max(size)) for k, v in zip(("width", "height"), size)
            }
        for step in reversed(self.wrap):
            body = [body] if step == 0 else {step: body}
        return body, truth

    def _sure(self):
        drawn = round(self.r.uniform(0.05, 0.99), 2)
        return round(255 * drawn) / 255 if self.scale == "byte" else drawn

    def _thing(self, size):
        r = self.r
        w, h = r.randint(30, size[0] // 2), r.randint(30, size[1] // 2)
        x, y = r.randint(0, size[0] - w), r.randint(0, size[1] - h)
        return r.choice(THINGS), self._sure(), (x, y, x + w, y + h)

    def _entry(self, thing, size, place):
        label, c, box = thing
        return {
            self.label: label, self.score: self.confidence(c), self.box: self.boxed(box, size),
            **self.extras(place),
        }  # fmt: skip

    def _objects(self, things, size):  # noqa: PLR0911 - one return for each layout
        entries = [self._entry(one, size, n) for n, one in enumerate(things)]
        if self.layout == "list":
            return {self.list: entries}
        if self.layout == "map by id":
            return {
                self.list: {f"r{self.r.randint(100, 999)}{n}": e for n, e in enumerate(entries)}
            }
        if self.layout == "side by side":
            names = (self.label, self.score, self.box)
            return {f"all_{n}": [e[n] for e in entries] for n in names}
        if self.layout == "rows":
            return {self.list: [[e[self.label], e[self.score], e[self.box]] for e in entries]}
        if self.layout == "table":
            names = [self.label, self.score, self.box]
            return {"header": names, self.list: [[e[n] for n in names] for e in entries]}
        grouped = {}
        for (label, _, _), entry in zip(things, entries):
            grouped.setdefault(label, []).append(
                {k: v for k, v in entry.items() if k != self.label}
            )
        if self.layout == "by name":
            return {self.list: grouped}
        return {self.list: [{self.label: label, "instances": e} for label, e in grouped.items()]}

    def _tags(self, size):
        if self.tags == "none":
            return {}, []
        pairs = [(t, self._sure()) for t in self.r.sample(SCENES, self.r.randint(2, 5))]
        made = {
            "list": [{self.label: t, self.score: self.confidence(c)} for t, c in pairs],
            "map": {t: self.confidence(c) for t, c in pairs},
            "one key": [{t: self.confidence(c)} for t, c in pairs],
        }[self.tags]
        return {self.tag_list: made}, [("label", t, c, None) for t, c in pairs]

    def _faces(self, size):
        if self.faces == "none":
            return {}, []
        found = [self._thing(size)[1:] for _ in range(self.r.randint(0, 3))]
        made = [
            {
                self.box: self.boxed(box, size),
                self.score: self.confidence(c),
                "age": self.r.randint(5, 80),
            }
            for c, box in found
        ]
        return {self.face_list: made}, [("face", "face", c, box) for c, box in found]

    def _unsafe(self, size):
        if self.unsafe == "none":
            return {}, []
        pairs = [(t, self._sure()) for t in HAZARDS[:4]]
        if self.unsafe == "words":
            shift = self.r.randrange(3)  # four hazards: each word comes in every answer
            words = [(t, (n + shift) % 3) for n, (t, _) in enumerate(pairs)]
            return {self.unsafe_list: {t: _WORDS[n] for t, n in words}}, [
                ("unsafe", t, (2 * n + 1) / 6, None) for t, n in words
            ]
        made = {
            "list": [{self.label: t, self.score: self.confidence(c)} for t, c in pairs],
            "map": {t: self.confidence(c) for t, c in pairs},
            "flags": {t: {"flagged": c > 0.5, self.score: self.confidence(c)} for t, c in pairs},
        }[self.unsafe]
        return {self.unsafe_list: made}, [("unsafe", t, c, None) for t, c in pairs]


def drawn(seed):
    """Return the sizes of some images, a service's answers to them, and what stands in each."""
    service = Service(seed)
    sizes = service.r.sample(SIZES, service.r.choice([3, 4]))
    made = [service.answer(size) for size in sizes]
    return sizes, [answer for answer, _ in made], [truth for _, truth in made]
