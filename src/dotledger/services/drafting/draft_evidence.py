"""What speaks for a field being a label, a confidence, or the word for a kind: one table.

Every number is a difference of log-likelihoods in nats: how much likelier such a name, or such
values, are where the field plays that part than where it does not. They add up, as evidence that
is independent does; 2.3 is ten to one. They are judgements, made on answers of services that were
invented for it, and held by `benchmarks drafting`, whose services are others.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from itertools import pairwise
from typing import Any

from msgspec import Struct

from dotledger.services.drafting.sample_sections import amount_of, is_amount, plain_name

__all__ = [
    "ASK",
    "ATTRIBUTE_NAMES",
    "BASE",
    "CERTAINTY_WORDS",
    "COLOUR_NAMES",
    "CONFIDENCE_NAMES",
    "FIELD_NAMES",
    "ID_NAMES",
    "KIND_WORDS",
    "LABEL_NAMES",
    "PARENT_NAMES",
    "POINT_NAMES",
    "SORT_NAMES",
    "UNSAFE_WORDS",
    "Seen",
    "evidence_for",
    "is_colour",
    "meaning_of",
    "name_words",
]

ASK = 3.8
"""Two readings closer than this are asked about: one chance in forty-five for the other."""


def _words(text: str) -> frozenset[str]:
    return frozenset(text.split())


LABEL_NAMES = _words(
    "label name tag what class title category concept about object thing called cls noun species "
    "entity term keyword topic word designation describes is of subject item element caption "
    "classname labelname tagname displayname display_name class_name label_name thing_name"
)
WEAK_LABEL_NAMES = _words("description kind type sort text value key t n l hit path")
CONFIDENCE_NAMES = _words(
    "confidence score sure percent probability likelihood trust certainty prob conf pct certain "
    "surety belief chance confidences scores probabilities likelihoods certainties"
)
WEAK_CONFIDENCE_NAMES = _words(
    "value level weight rating strength p s c q sc pr cf match quality rate"
)
ID_NAMES = _words(
    "id index idx ref key code uuid guid hash hex url href uri time date track rank number no "
    "position order page line seq serial version model mid source lang language locale"
)
SIDE_NAMES = _words(
    "x y w h x0 x1 x2 y0 y1 y2 left top right bottom upper lower width height wide high tall cx cy "
    "xmin ymin xmax ymax min max l t r b size angle area radius depth count total"
)
ATTRIBUTE_NAMES = _words(
    "age years smile smiling joy glad happy happiness sad sadness anger angry fear surprise calm "
    "neutral disgust mood emotion gender sex glasses beard hat mask eyes mouth blur sharpness "
    "brightness roll pitch yaw tilt pose traits gaze hair makeup"
)
PARENT_NAMES = _words("broader parents parent ancestors hypernyms wider above")
POINT_NAMES = _words("marks landmarks points keypoints features spots eyes")
SORT_NAMES = _words("type sort kind category class group what is role family")
COLOUR_NAMES = ("colour", "color", "palette", "swatch")
STATE_NAMES = _words("status state message error unit units format note reason")
SECTION_NAMES = _words(
    "labels tags objects faces results result items data response predictions detections findings "
    "annotations images pages blocks meta info safety answer answers output outputs"
)
FIELD_NAMES = (
    LABEL_NAMES | WEAK_LABEL_NAMES | CONFIDENCE_NAMES | WEAK_CONFIDENCE_NAMES | ID_NAMES
    | SIDE_NAMES | PARENT_NAMES | POINT_NAMES | STATE_NAMES | SECTION_NAMES
    | _words("box bbox rect bounds frame region place spot location")
)  # fmt: skip
"""Names that say what a field is: an object with such keys is no map from labels."""

KIND_WORDS: Mapping[str, str] = {
    word: kind
    for kind, words in {
        "face": "face faces head heads visage portrait",
        "object": "object objects thing things item items",
        "text": "text line lines word words writing ocr",
        "label": "label labels tag tags scene topic topics concept concepts keyword keywords",
        "unsafe": "unsafe hazard hazards moderation safety flag flags risk risks danger dangers "
        "warning warnings alert alerts adult violence harm threat threats",
        "caption": "caption captions sentence",
        "colour": "colour colours color colors",
    }.items()
    for word in words.split()
}

UNSAFE_WORDS = (
    *("safe", "hazard", "flag", "moderation", "risk", "danger", "adult"),
    *("violence", "harm", "warning", "alert", "threat", "explicit", "sensitive"),
)
"""Words in the names of sections about unsafe content."""

CERTAINTY_WORDS: Mapping[str, float] = {
    # Ordered by what the words mean in English; the numbers only rank them.
    "none": 0.0, "absent": 0.0, "no": 0.0, "never": 0.0, "negative": 0.0, "not present": 0.0,
    "nothing": 0.0, "safe": 0.02, "minimal": 0.08,
    "negligible": 0.08, "rare": 0.1, "improbable": 0.15, "unlikely": 0.2, "low": 0.2, "weak": 0.2,
    "slight": 0.2, "doubtful": 0.3, "faint": 0.25, "mild": 0.3, "uncertain": 0.4, "maybe": 0.5,
    "possible": 0.5, "medium": 0.5, "moderate": 0.5, "fair": 0.5, "some": 0.45, "probable": 0.7,
    "likely": 0.75, "high": 0.8, "strong": 0.8, "severe": 0.9, "sure": 0.95, "certain": 0.97,
    "definite": 0.97, "present": 0.97,
    "yes": 0.98, "extreme": 0.98,
}  # fmt: skip
"""Words of likelihood, by how much they promise."""

_NO_WORD = re.compile(
    r"(#?[0-9a-f]{6,}|\w+://.*|\d{4}-\d\d-\d\d.*|[\w.]+/[\w.]+;.*)$", re.IGNORECASE
)
_COLOUR = re.compile(r"#?[0-9a-f]{6}$", re.IGNORECASE)
_DIGITS = re.compile(r"\d")
_SENTENCE = 5
"""Words from which on a text is a sentence."""


def is_colour(value: Any) -> bool:
    """Tell whether a value is a colour written as #rrggbb."""
    return isinstance(value, str) and _COLOUR.match(value) is not None


def meaning_of(word: str) -> float | None:
    """Return how much a word of likelihood promises, 0 to 1; None for any other word.

    With "very" before it a word promises more than the same word alone, or less if it is a low one.
    """
    plain = " ".join(word.lower().replace("_", " ").replace("-", " ").split())
    bare = plain.removeprefix("very ")
    meant = CERTAINTY_WORDS.get(bare)
    if meant is None or bare == plain:
        return meant
    return (meant + (1.0 if meant >= 0.5 else 0.0)) / 2


def name_words(name: object) -> frozenset[str]:
    """Return a name in its words: ``detectionScore`` and ``detection_score`` have the same two."""
    spaced = re.sub(r"(?<=[a-z])(?=[A-Z])", " ", str(name))
    return frozenset(re.findall(r"[a-z]+|\d+", spaced.lower()))


class Seen(Struct, frozen=True):
    """A field as evidence looks at it: its name, its neighbours, and the values that it has."""

    name: str
    values: Sequence[Any]
    missing: int = 0
    beside: frozenset[str] = frozenset()

    @property
    def plain(self) -> str:
        """The last name in lower case."""
        return plain_name(self.name)

    def named(self, names: frozenset[str]) -> bool:
        """Tell whether the name, or a word of it, is among names."""
        one = self.plain.removesuffix("s"), self.plain
        return not names.isdisjoint(one) or bool(name_words(self.name) & names)

    @property
    def amounts(self) -> list[float]:
        """The numbers, where all are."""
        return [amount_of(v) for v in self.values] if self.all_amounts else []

    @property
    def all_amounts(self) -> bool:
        """Whether every value is a number, or text with one."""
        return bool(self.values) and all(map(is_amount, self.values))

    @property
    def texts(self) -> list[str]:
        """The texts, where all are words and no amounts."""
        good = all(isinstance(v, str) and v.strip() and not is_amount(v) for v in self.values)
        return [str(v) for v in self.values] if good else []

    @property
    def whole(self) -> bool:
        """Whether all numbers are whole ones."""
        return bool(self.amounts) and all(a.is_integer() for a in self.amounts)


def _share(test: Callable[[str], Any]) -> Callable[[Seen], float]:
    return lambda s: sum(bool(test(t)) for t in s.texts) / len(s.texts) if s.texts else 0.0


def _repeats(seen: Seen) -> float:
    """Return 1 where some value comes back and not all are one; labels do, ids do not."""
    different = len(set(seen.texts))
    return float(1 < different < len(seen.texts))


def _constant(seen: Seen) -> float:
    return float(len(seen.values) > 2 and len({str(v) for v in seen.values}) == 1)


def _counting(seen: Seen) -> float:
    """Return 1 for whole numbers that go up one by one: places, ranks, running numbers."""
    numbers = seen.amounts
    steps = [b - a for a, b in pairwise(numbers)]
    return float(seen.whole and len(steps) > 1 and sum(s == 1 for s in steps) > len(steps) / 2)


def _fractions(seen: Seen) -> float:
    numbers = seen.amounts
    inside = bool(numbers) and min(numbers) >= 0 and max(numbers) <= 1
    return float(inside and not seen.whole)


def _between(low: float, high: float, *, whole: bool) -> Callable[[Seen], float]:
    def test(seen: Seen) -> float:
        numbers = seen.amounts
        inside = bool(numbers) and min(numbers) >= 0 and low < max(numbers) <= high
        return float(inside and seen.whole == whole)

    return test


def _log_odds(seen: Seen) -> float:
    numbers = seen.amounts
    return float(
        bool(numbers) and min(numbers) < 0 and max(map(abs, numbers)) < 20 and not seen.whole
    )


_SIDES = _words("x y w h l t r b left top right bottom width height cx cy")


def _is_side(seen: Seen) -> float:
    """Return 1 for a side among sides; w alone may be a weight, and is hardly a width."""
    alone = len(seen.plain) < 3 and not seen.beside & _SIDES - {seen.plain}
    return (0.25 if alone else 1.0) * float(seen.plain in SIDE_NAMES)


_LABEL: Sequence[tuple[str, Callable[[Seen], float], float]] = (
    ("its name is one for labels", lambda s: float(s.named(LABEL_NAMES)), 2.5),
    ("its name may be one for labels", lambda s: float(s.plain in WEAK_LABEL_NAMES), 1.0),
    ("its name is one for ids, places or addresses", lambda s: float(s.plain in ID_NAMES), -3.0),
    ("its name is one for a trait", lambda s: float(s.plain in ATTRIBUTE_NAMES), -3.0),
    ("its name is one for states", lambda s: float(s.plain in STATE_NAMES), -4.0),
    ("its values are words", _share(lambda t: not _DIGITS.search(t) and len(t) > 1), 2.0),
    ("its values hold digits", _share(_DIGITS.search), -3.0),
    ("its values are codes or addresses", _share(_NO_WORD.match), -6.0),
    ("its values are single letters", _share(lambda t: len(t) == 1), -2.0),
    ("its values are sentences", _share(lambda t: len(t.split()) >= _SENTENCE), -1.0),
    ("its values name kinds", _share(lambda t: t.lower() in KIND_WORDS), -2.5),
    ("its values are words of likelihood", _share(lambda t: meaning_of(t) is not None), -6.0),
    ("values come back, and differ", _repeats, 1.5),
    ("every value is the same", _constant, -2.5),
    ("some are missing", lambda s: float(s.missing > 0), -1.0),
)  # fmt: skip
_CONFIDENCE: Sequence[tuple[str, Callable[[Seen], float], float]] = (
    ("its name is one for confidences", lambda s: float(s.named(CONFIDENCE_NAMES)), 3.0),
    ("its name may be one for confidences", lambda s: float(s.plain in WEAK_CONFIDENCE_NAMES), 1.0),
    ("its name is one for sides and sizes", _is_side, -4.0),
    ("its name is one for ids and places", lambda s: float(s.plain in ID_NAMES), -4.0),
    ("its name is one for a trait", lambda s: float(s.named(ATTRIBUTE_NAMES)), -5.0),
    ("its numbers are from 0 to 1", _fractions, 2.5),
    ("its numbers are log-odds", _log_odds, 0.5),
    ("a sign of percent", lambda s: float(any("%" in str(v) for v in s.values)), 3.0),
    ("its numbers go to 100, with parts", _between(1, 100, whole=False), 1.5),
    ("whole numbers to 100", _between(1, 100, whole=True), 0.3),
    ("whole numbers to 1000", _between(100, 1000, whole=True), -0.2),
    ("numbers above 1000", lambda s: float(max(s.amounts, default=0) > 1000), -6.0),
    ("numbers that count up", _counting, -6.0),
    ("every value is the same", _constant, -3.0),
    ("only 0 and 1", lambda s: float(s.whole and set(s.amounts) <= {0.0, 1.0}), -2.5),
    ("words of likelihood", _share(lambda t: meaning_of(t) is not None), 4.0),
    (
        "yes or no",
        lambda s: float(bool(s.values) and all(isinstance(v, bool) for v in s.values)),
        -1.0,
    ),
    ("some are missing", lambda s: float(s.missing > 0), -0.7),
)
_TABLES = {"label": _LABEL, "confidence": _CONFIDENCE}

BASE: Mapping[str, float] = {
    "finding": -3.0,  # any one place holds no findings, until its fields say otherwise
    "single": -1.5,  # findings seldom stand alone, without a list
    "map": -0.5,  # an object is a record more often than a map
    "outer": -0.4,  # a label or a confidence stands with its finding more often than around it
    "table": 4.0,  # every id is in a table of names: chance hardly does that
    "always": -1.0,  # findings without any label are rare, but for faces
    "always, in a map": -8.0,  # several lists alike: their names are the labels
    "inside a box": -12.0,  # what stands inside a thing with a box is a part of it
    "bare words": -0.5,
    "a leaf of a tree": 4.0,  # maps in maps are read at their leaves
    "of a trait": -5.0,  # how sure a service is of a smile is not how sure it is of the face
    "section": 1.5,  # it is called by a kind of finding
    "no confidence": -2.0,  # most services say how sure they are
    "in several sections": 2.0,  # a trait belongs to one sort of thing; a confidence to all
    "numbered names": -25.0,  # object_0, object_1: keys, and no fields
    "only one candidate": 1.5,  # the one number that may be a confidence among what is not
}
"""What speaks for or against a place before its fields are looked at."""


def evidence_for(role: str, seen: Seen) -> tuple[float, list[str]]:
    """Return the evidence that a field plays a part, and the reasons that count most.

    Parameters
    ----------
    role : {"label", "confidence"}
        The part.
    seen : Seen
        The field.

    Returns
    -------
    (float, list of str)
        Nats; below zero where the part is unlikely. Reasons have the strongest first.
    """
    told = [(test(seen) * weight, why) for why, test, weight in _TABLES[role]]
    reasons = [why for weight, why in sorted(told, key=lambda one: -abs(one[0])) if weight]
    return sum(weight for weight, _ in told), reasons[:3]
