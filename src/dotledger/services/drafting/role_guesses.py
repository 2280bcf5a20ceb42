"""What a group may hold as a whole: a label, a confidence, a box, and findings of which kind."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import product

from msgspec import Struct
from msgspec.structs import replace

from dotledger.services.drafting.box_drafting import BoxGuess, box_guesses, frames_of
from dotledger.services.drafting.confidence_guesses import ConfidenceGuess, confidence_guesses
from dotledger.services.drafting.draft_evidence import (
    ATTRIBUTE_NAMES,
    BASE,
    COLOUR_NAMES,
    FIELD_NAMES,
    KIND_WORDS,
    UNSAFE_WORDS,
    name_words,
)
from dotledger.services.drafting.group_fields import GroupFields
from dotledger.services.drafting.label_guesses import LabelGuess, label_guesses
from dotledger.services.drafting.sample_sections import (
    Entry,
    Path,
    SectionGroup,
    fields_of,
    plain_name,
)
from dotledger.services.drafting.section_shapes import angled, masks_of

__all__ = ["Candidate", "candidates_of"]

_MOST = 24
_FACE_WORDS = ("face", "head", "visage", "portrait")
_PERSON_WORDS = ("people", "person", "human", "guest", "walker")
_TEXT_WORDS = ("text", "line", "ocr", "writing")
_LABEL_WORDS = ("label", "tag", "keyword", "topic", "concept", "term", "class", "categor")
_CARRIED = {
    "colour": COLOUR_NAMES,
    "caption": ("caption", "sentence", "summary", "narration", "alt_text", "alttext"),
    "fact": ("quality", "facts", "technical", "imagetype", "image_type"),
}
"""Names of sections that are carried along and never judged as labels."""
_SENTENCE = 4
"""Words from which on a label is a sentence about the image, and no label."""


class Candidate(Struct, eq=False, kw_only=True):
    """One reading of one group, with what speaks for it in nats."""

    group: SectionGroup
    kind: str
    label: LabelGuess
    confidence: ConfidenceGuess
    box: BoxGuess | None = None
    score: float = 0.0

    def same_values(self, other: Candidate) -> bool:
        """Tell whether both read the same findings out of the samples."""
        boxes = (self.box is None) == (other.box is None) and (
            self.box is None or other.box is None or self.box.reads_as(other.box)
        )
        mine, its = ((c.label.texts or c.label.at, c.label.always) for c in (self, other))
        return mine == its and self.confidence.reads == other.confidence.reads and boxes


def candidates_of(own: GroupFields) -> list[Candidate]:
    """Return the readings of one group, the likeliest first; empty if it cannot hold findings.

    Parameters
    ----------
    own : GroupFields
        With its fields.
    """
    entries = own.group.entries
    if not entries:
        return []
    own.fields = fields_of(own.group.values)
    if own.group.through == "{}" and () in own.fields and len(own.fields) > 1:
        return []  # values of several sorts are no map
    frames = frames_of([entry.size for entry in entries], own.working)
    boxes = masks_of(own.fields)
    boxes += [angled(one, own.fields) for one in box_guesses(own.fields, frames)]
    if own.group.beside:
        boxes = [_from_beside(one, own.group.beside) for one in boxes]
    boxes = boxes or _outer_boxes(own)
    best = max((box.score for box in boxes), default=0.0)
    sides = boxes[0].used if boxes and best > _BOX_WORTH else ()
    found = [
        made
        for label, confidence, box in product(
            label_guesses(own),
            confidence_guesses(own, sides, about_faces=_about_faces(own, None)),
            [*boxes[:6], None],
        )
        if (made := _candidate(own, label, confidence, box, best)) is not None
    ]
    return sorted(found, key=lambda one: -one.score)[:_MOST]


def _outer_boxes(own: GroupFields) -> list[BoxGuess]:
    """Return boxes of the entries around: a region whose labels are a list inside of it."""
    outer = [entry.outer for entry in own.group.entries if entry.outer is not None]
    steps = [step for step in own.group.path if step in ("[]", "{}")]
    called = any(word in name for name in own.group.names[-1:] for word in _LABEL_WORDS)
    inside = len(steps) > 1 and len(outer) == len(own.group.entries) and not own.group.beside
    if not called or not inside or own.group.through != "[]" or _about_faces(own, None):
        return []
    frames = frames_of([entry.size for entry in outer], own.working)
    found = box_guesses(fields_of([entry.value for entry in outer]), frames)
    return [replace(one, at=f"^{one.at}", used=()) for one in found if one.at[0] not in "@["]


def _from_beside(box: BoxGuess, beside: Mapping[str, str]) -> BoxGuess:
    """Return a box out of lists side by side: each of its numbers in its own list, or one list."""
    if box.fields and box.at == "@":
        inner = {role: f"^{beside.get(at, at)}[@index]" for role, at in box.fields.items()}
        return replace(box, fields=inner)
    return replace(box, at=f"^{beside.get(box.at, box.at)}[@index]")


def _candidate(
    own: GroupFields,
    label: LabelGuess,
    confidence: ConfidenceGuess,
    box: BoxGuess | None,
    best: float,
) -> Candidate | None:
    taken = [f for f in (label.field, confidence.field) if f is not None]
    if len(set(taken)) < len(taken) or (box and any(f in box.used for f in taken)):
        return None
    if box is None and (label.always or confidence.at.startswith("^")):
        return None
    if own.group.through == "" and label.always and not confidence.toml:
        return None  # a box by itself is a field of something
    kind = _kind_of(own, label, box)
    if kind == "face" and box is None:
        kind = "label"
    boxed = box if kind in ("object", "face", "text") else None
    if box is not None and boxed is None:
        return None
    score = BASE["finding"] + confidence.score + _box_score(box, best)
    score += _label_score(label, kind) + _structure(own, label, confidence, box, kind)
    if kind == "face":
        label = LabelGuess(always="face")
    return Candidate(
        group=own.group, kind=kind, label=label, confidence=confidence, box=box, score=score
    )


def _label_score(label: LabelGuess, kind: str) -> float:
    """Return what the label adds; a face needs none, and one beside it is a name."""
    if kind == "face":
        return 0.5 if label.always else 0.0
    return label.score


_BOX_WORTH = 8.0


def _box_score(box: BoxGuess | None, best: float) -> float:
    """Return what a box adds: at most so much, however many boxes there are; less if not the best.

    The distance to the best one counts whole, for it decides which is meant.
    """
    return 0.0 if box is None else min(best, _BOX_WORTH) - (best - box.score)


def _structure(
    own: GroupFields,
    label: LabelGuess,
    confidence: ConfidenceGuess,
    box: BoxGuess | None,
    kind: str,
) -> float:
    """Return what the shape of the group says, whatever its fields are."""
    score = 0.0
    if own.group.through == "":
        score += BASE["single"]
    score += _map_score(own, label)
    if label.always and kind != "face" and _has_siblings(own):
        score += BASE["always, in a map"]
    if name_words("_".join(own.group.names[-1:])) & KIND_WORDS.keys():
        score += BASE["section"]
    if label.at == "@key" and "{}" in own.group.path[:-1]:
        score += BASE["a leaf of a tree"]
    score += _names_score(own)
    if not confidence.toml and box is None:
        section = any(word in name for name in own.group.names[-1:] for word in _LABEL_WORDS)
        bare = own.fields.keys() == {()} and own.group.through == "[]"
        whole = own.group.path == ("[]",)  # an answer that is nothing but words
        score += 4.5 if whole and bare else 2.5 if section and bare else -2.0
    return score


def _names_score(own: GroupFields) -> float:
    """Return what speaks against the names on the way: numbered ones are rather keys."""
    score, path = 0.0, own.group.path
    for place, name in enumerate(path):
        above = own.groups.get((*path[:place], "{}"))
        if name in ("[]", "{}") or above is None:
            continue
        if all(any(letter.isdigit() for letter in entry.key) for entry in above.entries):
            score += BASE["numbered names"]
    return score


def _has_siblings(own: GroupFields) -> bool:
    """Tell whether lists like this one stand next to it, each under another name."""
    path = own.group.path
    above = own.groups.get((*path[:-2], "{}"))
    inside = (*path[:-2], "{}", *path[-1:]) in own.groups
    return above is not None and inside and len({entry.key for entry in above.entries}) > 1


def _map_score(own: GroupFields, label: LabelGuess) -> float:
    """Return what keys say of the objects on the way being maps: they differ, or are the labels.

    Where all objects have the same keys, and those are not what is read, they are names of fields.
    """
    score, entries = 0.0, (own.whole or own.group).entries
    steps = [step for step in own.group.path if step in ("[]", "{}")]
    for up, step in enumerate(reversed(steps)):
        if step == "{}":
            read = label.at == "@key" or label.at == "^" * up + "@key"
            score += BASE["map"] + _keys_score(entries, read)
        entries = [entry.outer for entry in entries if entry.outer is not None]
    return score


def _keys_score(entries: Sequence[Entry], read: bool) -> float:
    by_object: dict[Path, set[str]] = {}
    for entry in entries:
        by_object.setdefault((entry.sample, *entry.place[:-1]), set()).add(entry.key)
    sets = list(by_object.values())
    vary = any(one != sets[0] for one in sets)
    keys = {key for one in sets for key in one}
    known = sum(map(_is_field, keys)) / max(len(keys), 1)
    alone = len(sets) < 2 and len(keys) > 1
    several = len(keys) > 1
    return (1.5 if vary else 0.0 if read and several else -1.0 if alone else -6.0) - 6.0 * known


_SIDE_WORDS = frozenset(("left", "right", "top", "bottom", "width", "height", "min", "max"))


def _is_field(key: str) -> bool:
    """Tell whether a key is rather the name of a field: one known, or a side such as top_row."""
    return plain_name(key) in FIELD_NAMES or bool(name_words(key) & _SIDE_WORDS)


def _about_faces(own: GroupFields, label: LabelGuess | None) -> bool:
    """Tell whether entries are faces: by the section's name, or people with a face's traits."""
    text = " ".join(own.group.names)
    if any(word in text for word in _FACE_WORDS):
        return True
    traits = {word for path in own.fields for step in path for word in name_words(step)}
    known = len(traits & ATTRIBUTE_NAMES)
    people = any(word in text for word in _PERSON_WORDS)
    own_label = label is not None and label.at and not label.at.startswith("^") and label.score > 3
    return not own_label and (known > 1 or (people and known > 0))


def _kind_of(own: GroupFields, label: LabelGuess, box: BoxGuess | None) -> str:
    if own.group.sort:
        word = KIND_WORDS.get(own.group.sort.lower(), "")
        if word in ("face", "object", "text") and box is None:
            word = "label" if word != "face" else ""
        return word or ("object" if box else "label")
    text = " ".join(own.group.names)
    if any(word in text for word in UNSAFE_WORDS):
        return "unsafe" if box is None else "object"
    if box is not None and _about_faces(own, label):
        return "face"
    if box is not None:
        return "text" if any(word in text for word in _TEXT_WORDS) else "object"
    last = own.group.names[-1] if own.group.names else ""
    carried = (kind for kind, words in _CARRIED.items() if any(word in last for word in words))
    if kind := next(carried, ""):
        return kind
    return "caption" if _are_sentences(label) else "label"


def _are_sentences(label: LabelGuess) -> bool:
    """Tell whether labels are sentences: most of them of several words, and no category paths."""
    texts = [str(text).split() for text in label.texts]
    long = sum(len(words) >= _SENTENCE for words in texts)
    return bool(texts) and not label.split and long > len(texts) / 2
