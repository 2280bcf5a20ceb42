"""Drafting reading rules from sample answers: guesses, ranked, each with its reasons."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from msgspec import Struct, field

from dotledger.services.description import parse_description
from dotledger.services.draft_boxes import BoxGuess, box_guesses, is_number, is_xy, roles_of
from dotledger.services.frames import Frame
from dotledger.services.reading import Reader, Reading

__all__ = ["BoxGuess", "Draft", "RuleGuess", "described_draft", "draft", "read_samples"]

Path = tuple[str, ...]
"""Steps into an answer: names, ``[]`` through a list, ``{}`` through an object's values."""

_LABEL_NAMES = (
    *("label", "name", "tag", "what", "class", "title", "category", "concept", "about"),
    *("description", "kind", "type", "word", "term"),
)
_CONFIDENCE_NAMES = (
    *("confidence", "score", "sure", "percent", "probability", "likelihood", "level"),
    *("certainty", "prob", "weight", "rating", "value", "strength"),
)
_PARENT_NAMES = ("broader", "parents", "parent", "ancestors", "hypernyms")
_POINT_NAMES = ("marks", "landmarks", "points", "keypoints", "features")
_FACE_WORDS = ("face", "head", "visage", "portrait")
_UNSAFE_WORDS = (
    *("unsafe", "safety", "hazard", "flag", "moderation", "risk", "danger", "adult"),
    *("violence", "harm"),
)
_TEXT_WORDS = ("text", "line", "ocr", "writing")


class RuleGuess(Struct, kw_only=True):
    """One drafted rule.

    Attributes
    ----------
    kind, each, label, always : str
        As in a description.
    confidence : str
        Where it stands and on what scale, as an inline table; empty for none.
    boxes : list of BoxGuess
        Ranked, the most likely first; empty for kinds without boxes.
    reasons : list of str
        Why it was drafted so.
    """

    kind: str
    each: str
    label: str = ""
    always: str = ""
    confidence: str = ""
    lower: bool = False
    parents: str = ""
    points: str = ""
    attributes: dict[str, tuple[str, str]] = field(default_factory=dict)
    boxes: list[BoxGuess] = field(default_factory=list)
    reasons: list[str] = field(default_factory=list)

    def toml(self) -> str:
        """Return the rule as TOML, reasons and other candidates as comments."""
        lines = [f"# {reason}" for reason in self.reasons]
        lines += ["[[read]]", f'kind = "{self.kind}"', f'each = "{self.each}"']
        if self.always:
            lines.append(f'always = "{self.always}"')
        else:
            lines.append(f'label = "{self.label}"')
            lines += ['case = "lower"  # every label starts with a capital'] if self.lower else []
        lines += [f"confidence = {self.confidence}"] if self.confidence else []
        if self.boxes:
            lines += [f"# {reason}" for reason in self.boxes[0].reasons]
            lines.append(f"box = {self.boxes[0].toml()}")
            lines += [
                f"# or: box = {guess.toml()}  # {guess.reasons[0]}" for guess in self.boxes[1:3]
            ]
        lines += [f'parents = "{self.parents}"'] if self.parents else []
        lines += [f"points = {self.points}"] if self.points else []
        if self.attributes:
            inner = ", ".join(
                f'"{name}" = {{ at = "{at}", type = "{kind}" }}'
                for name, (at, kind) in self.attributes.items()
            )
            lines.append(f"attributes = {{ {inner} }}")
        return "\n".join(lines)


class Draft(Struct, kw_only=True):
    """A drafted reading part of a description.

    Attributes
    ----------
    envelope : dict of str to str
        Keys of the ``[envelope]`` section.
    rules : list of RuleGuess
        In the order of the answer.
    questions : list of str
        What no sample can tell.
    amounts : dict of str to list of float
        All values met of each field that may hold a confidence.
    """

    envelope: dict[str, str] = field(default_factory=dict)
    rules: list[RuleGuess] = field(default_factory=list)
    questions: list[str] = field(default_factory=list)
    amounts: dict[str, list[float]] = field(default_factory=dict)

    def toml(self) -> str:
        """Return the draft as commented TOML."""
        parts = [f"# Please check: {question}" for question in self.questions]
        if self.envelope:
            inner = [f'{name} = "{where}"' for name, where in self.envelope.items()]
            parts.append("\n".join(["[envelope]", *inner]))
        return "\n\n".join([*parts, *(rule.toml() for rule in self.rules)]) + "\n"


class _Group(Struct):
    """All parts of the samples that stand at one path, each with its image's size."""

    path: Path
    entries: list[tuple[Any, tuple[float, float]]] = field(default_factory=list)
    keys: list[str] = field(default_factory=list)


def draft(
    answers: Sequence[Any],
    sizes: Sequence[tuple[float, float]] = (),
    *,
    words: Sequence[str] = (),
) -> Draft:
    """Propose reading rules from sample answers.

    Parameters
    ----------
    answers : sequence
        Parsed JSON of one or more raw answers; the more, the surer.
    sizes : sequence of (width, height)
        Of the image sent for each answer, upright pixels; empty if not known.
    words : sequence of str
        The ordered words of the service's confidence scale, rising, where it uses words.

    Returns
    -------
    Draft
        Without rules if nothing like a finding was recognised.
    """
    known = list(sizes) or [(math.nan, math.nan)] * len(answers)
    made = Draft()
    parts, prefix = _image_parts(answers, known, made)
    working = _working_size(parts, made)
    groups = _groups(parts)
    made.amounts = _amounts(groups)
    for group in groups.values():
        _rules_of(group, groups, working, words, made)
    made.rules.sort(key=lambda rule: list(groups).index(_owner(rule, groups)))
    if prefix and made.rules:
        made.envelope = {"images": prefix, **made.envelope}
    return made


def _owner(rule: RuleGuess, groups: Mapping[Path, _Group]) -> Path:
    return next(path for path in groups if _each(path) == rule.each)


def _image_parts(
    answers: Sequence[Any], sizes: Sequence[tuple[float, float]], made: Draft
) -> tuple[list[tuple[Any, tuple[float, float]]], str]:
    """Recognise an envelope that holds one part for each image: a list of objects of lists."""
    parts = list(zip(answers, sizes, strict=True))
    tops = [answer for answer in answers if isinstance(answer, dict)]
    for name in tops[0] if tops else ():
        lists = [top.get(name) for top in tops]
        if all(_is_image_list(value) for value in lists) and len(tops[0]) <= 3:
            entry_id = _entry_id([e for value in lists if isinstance(value, list) for e in value])
            if entry_id:
                made.envelope["id"] = entry_id
            inner = [
                (e, size)
                for top, size in parts
                for e in (top.get(name) if isinstance(top, dict) else []) or []
            ]
            return inner, f"{name}[]"
    return parts, ""


def _is_image_list(value: Any) -> bool:
    """Tell whether a list holds images: objects that hold lists or sections of objects."""
    if not isinstance(value, list) or not value:
        return False
    return all(isinstance(e, dict) and sum(_is_section(v) for v in e.values()) >= 2 for e in value)


def _is_section(value: Any) -> bool:
    return isinstance(value, list) and all(isinstance(part, dict) for part in value)


def _entry_id(entries: Sequence[Mapping[str, Any]]) -> str:
    for name in ("id", "ref", "image_id", "image", "key", "index", "n"):
        values = [entry.get(name) for entry in entries]
        if values and all(isinstance(v, (str, int)) for v in values):
            return name
    return ""


def _working_size(parts: Sequence[tuple[Any, Any]], made: Draft) -> list[tuple[float, float]]:
    """Recognise a reported size that differs from the image's: the service's working size."""
    found: list[tuple[float, float]] = []
    for part, size in parts:
        reported = _reported(part)
        if reported is None:
            return []
        (width_at, width), (height_at, height) = reported
        found.append((width, height))
        differs = math.isnan(size[0]) or abs(width - size[0]) > 1.0
        if differs and "width" not in made.envelope:
            made.envelope |= {"width": width_at, "height": height_at}
    return found if "width" in made.envelope else []


def _reported(part: Any) -> tuple[tuple[str, float], tuple[str, float]] | None:
    if not isinstance(part, dict):
        return None
    for name, value in [("", part), *part.items()]:
        if not isinstance(value, dict):
            continue
        roles = roles_of(value)
        if {"width", "height"} <= roles.keys() and not {"x0", "cx"} & roles.keys():
            dot = f"{name}." if name else ""
            width, height = value[roles["width"]], value[roles["height"]]
            if is_number(width) and is_number(height):
                return (dot + roles["width"], width), (dot + roles["height"], height)
    return None


def _groups(parts: Sequence[tuple[Any, tuple[float, float]]]) -> dict[Path, _Group]:
    """Collect every list entry and keyed part by its path, in the order met."""
    groups: dict[Path, _Group] = {}
    for part, size in parts:
        for path, key, entry in _entries(part, ()):
            group = groups.setdefault(path, _Group(path))
            group.entries.append((entry, size))
            group.keys.append(key)
    return groups


def _entries(value: Any, path: Path) -> Iterator[tuple[Path, str, Any]]:
    if isinstance(value, list) and value and not _is_numeric_list(value):
        for part in value:
            yield (*path, "[]"), "", part
            yield from _entries(part, (*path, "[]"))
    elif isinstance(value, dict):
        if _is_keyed(value):
            for key, part in value.items():
                yield (*path, "{}"), key, part
                yield from _entries(part, (*path, "{}"))
            return
        for name, part in value.items():
            yield from _entries(part, (*path, name))


def _is_numeric_list(value: Sequence[Any]) -> bool:
    flat = [x for v in value for x in (v if isinstance(v, list) else [v])]
    return all(is_number(x) for x in flat) or all(is_xy(v) for v in value)


def _is_keyed(value: Mapping[str, Any]) -> bool:
    """Tell whether an object's keys are labels: its values are alike, its keys no field names."""
    if not value or roles_of(value) or is_xy(value):
        return False
    names = {name.lower() for name in value}
    if names & {*_LABEL_NAMES, *_CONFIDENCE_NAMES, *_PARENT_NAMES}:
        return False
    values = list(value.values())
    numbers = all(is_number(v) for v in values)
    strings = all(isinstance(v, str) for v in values)
    objects = all(isinstance(v, dict) for v in values)
    alike = objects and len({tuple(sorted(v)) for v in values}) == 1 and not is_xy(values[0])
    one = len(values) == 1 and objects and bool(set(values[0]) & {*_CONFIDENCE_NAMES, "parts"})
    return (numbers and len(values) > 1) or (strings and len(values) > 1) or alike or one


def _each(path: Path) -> str:
    """Return a path as written in a description."""
    text = ""
    for step in path:
        text += step if step in ("[]", "{}") else f".{step}" if text else step
    return text


def _rules_of(
    group: _Group,
    groups: Mapping[Path, _Group],
    working: Sequence[tuple[float, float]],
    words: Sequence[str],
    made: Draft,
) -> None:
    """Append the rule that a group's entries call for, if any."""
    through_keys = group.path[-1] == "{}"
    entries = [entry for entry, _ in group.entries]
    if through_keys and all(is_number(e) or isinstance(e, str) for e in entries):
        _keyed_values(group, entries, words, made)
        return
    objects = [entry for entry in entries if isinstance(entry, dict)]
    if len(objects) < len(entries) or not objects or _is_landmarks(group.path):
        return
    label, always = _label_of(group, objects, groups)
    confidence = _confidence_of(objects, words, made)
    boxes = box_guesses([(e, s) for e, s in group.entries], working)
    if not (label or always) or not (confidence or boxes):
        return
    if (
        not boxes
        and any(
            p[: len(group.path)] == group.path and len(p) > len(group.path) and not _is_landmarks(p)
            for p in groups
        )
        and through_keys
    ):
        return
    kind = _kind_of(group.path, bool(boxes))
    if kind == "face" and not always:
        always, label = "face", ""
    made.rules.append(
        RuleGuess(
            kind=kind,
            each=_each(group.path),
            label=label,
            always=always,
            lower=_capitals(group, objects, label, groups),
            confidence=confidence,
            parents=_parents_of(group.path, objects, label, groups),
            points=_points_of(objects),
            attributes=_attributes_of(objects, label, confidence, boxes),
            boxes=boxes if kind in ("object", "face") else [],
            reasons=[f"{len(objects)} parts at {_each(group.path)}"],
        )
    )


def _keyed_values(group: _Group, entries: Sequence[Any], words: Sequence[str], made: Draft) -> None:
    """Append a rule for an object whose keys are labels and whose values are confidences."""
    if all(is_number(e) for e in entries):
        confidence = _scale([float(e) for e in entries], "@")
    else:
        confidence = _words(sorted({str(e) for e in entries}), "@", words, made)
    made.rules.append(
        RuleGuess(
            kind=_kind_of(group.path, boxed=False),
            each=_each(group.path),
            label="@key",
            confidence=confidence,
            reasons=[f"keys such as {group.keys[0]!r} with a value each"],
        )
    )


def _is_landmarks(path: Path) -> bool:
    names = [step for step in path if step not in ("[]", "{}")]
    return bool(names) and names[-1].lower() in _POINT_NAMES


def _kind_of(path: Path, boxed: bool) -> str:
    text = " ".join(step.lower() for step in path)
    if any(word in text for word in _UNSAFE_WORDS):
        return "unsafe"
    if any(word in text for word in _FACE_WORDS):
        return "face"
    if any(word in text for word in _TEXT_WORDS) and boxed:
        return "text"
    return "object" if boxed else "label"


def _named(objects: Sequence[Mapping[str, Any]], names: Sequence[str], test: Any) -> str:
    """Return the first of `names` that every object has with a fitting value."""
    for name in names:
        for own in objects[0]:
            if own.lower() == name and all(test(o.get(own)) for o in objects):
                return own
    return ""


def _label_of(
    group: _Group, objects: Sequence[Mapping[str, Any]], groups: Mapping[Path, _Group]
) -> tuple[str, str]:
    """Return where the label stands, or a fixed one."""
    if group.path[-1] == "{}":
        return "@key", ""
    own = _named(objects, _LABEL_NAMES, lambda v: isinstance(v, str) and bool(v))
    if own:
        return own, ""
    up, path = 1, group.path[:-1]
    while path:
        if path in groups:
            outer = [e for e, _ in groups[path].entries if isinstance(e, dict)]
            if path[-1] == "{}":
                return "^" * up + "@key", ""
            if outer and (name := _named(outer, _LABEL_NAMES, lambda v: isinstance(v, str))):
                return "^" * up + name, ""
            up += 1
        path = path[:-1]
    names = [step for step in group.path if step not in ("[]", "{}")]
    word = names[-1].lower() if names else ""
    return "", word.removesuffix("s") or word


def _capitals(
    group: _Group,
    objects: Sequence[Mapping[str, Any]],
    label: str,
    groups: Mapping[Path, _Group],
) -> bool:
    """Tell whether every label starts with a capital letter."""
    if label == "@key":
        texts = group.keys
    elif label.startswith("^") and "@" not in label:
        outer = [e for g in groups.values() for e, _ in g.entries if isinstance(e, dict)]
        texts = [e[label.strip("^")] for e in outer if isinstance(e.get(label.strip("^")), str)]
    else:
        texts = [str(o.get(label, "")) for o in objects]
    return bool(texts) and all(text[:1].isupper() for text in texts)


def _parents_of(
    path: Path, objects: Sequence[Mapping[str, Any]], label: str, groups: Mapping[Path, _Group]
) -> str:
    def listed(value: Any) -> bool:
        return isinstance(value, list) and all(isinstance(v, str) for v in value)

    if own := _named(objects, _PARENT_NAMES, listed):
        return own
    if label.startswith("^"):
        outer_path = next(
            (p for p in (path[:n] for n in range(len(path) - 1, 0, -1)) if p in groups), ()
        )
        outer = (
            [e for e, _ in groups[outer_path].entries if isinstance(e, dict)] if outer_path else []
        )
        if outer and (name := _named(outer, _PARENT_NAMES, listed)):
            return "^" + name
    return ""


def _confidence_of(objects: Sequence[Mapping[str, Any]], words: Sequence[str], made: Draft) -> str:
    if name := _named(objects, _CONFIDENCE_NAMES, _is_number_like):
        values = made.amounts.get(name) or [_amount(o[name]) for o in objects]
        percent = any(isinstance(o[name], str) and "%" in o[name] for o in objects)
        return _scale(values, name, percent=percent)
    if name := _named(objects, _CONFIDENCE_NAMES, lambda v: isinstance(v, str)):
        return _words(sorted({o[name] for o in objects}), name, words, made)
    return ""


def _amount(value: Any) -> float:
    return float(str(value).strip().rstrip("%"))


def _amounts(groups: Mapping[Path, _Group]) -> dict[str, list[float]]:
    """Return all values of each field that may hold a confidence, wherever it stands.

    A service writes one field on one scale; a few small values alone would look like fractions.
    """
    found: dict[str, list[float]] = {}
    for group in groups.values():
        for entry, _ in group.entries:
            if isinstance(entry, dict):
                for name, value in entry.items():
                    if name.lower() in _CONFIDENCE_NAMES and _is_number_like(value):
                        found.setdefault(name, []).append(_amount(value))
    return found


def _is_number_like(value: Any) -> bool:
    return is_number(value) or (
        isinstance(value, str) and re.fullmatch(r"-?\d+(\.\d+)?\s*%?", value) is not None
    )


def _scale(values: Sequence[float], at: str, *, percent: bool = False) -> str:
    """Return the scale on which the values fit, the narrowest first."""
    least, most = min(values), max(values)
    if percent or "percent" in at.lower():
        scale = "percent"
    elif least < 0:
        scale = "log-odds"
    elif most <= 1:
        scale = "fraction"
    elif most <= 100:
        scale = "percent"
    else:
        scale = "thousandths"
    shown = f', scale = "{scale}"' if scale != "fraction" else ""
    return f'{{ at = "{at}"{shown} }}'


def _words(seen: Sequence[str], at: str, words: Sequence[str], made: Draft) -> str:
    """Return ordered words with evenly spread numbers; their order cannot be seen."""
    ordered = list(words) if words and set(seen) <= set(words) else list(seen)
    if ordered != list(words):
        made.questions.append(f"the order of the words {', '.join(ordered)}, from low to high")
    steps = [
        f'["{word}", {(2 * place + 1) / (2 * len(ordered)):.3g}]'
        for place, word in enumerate(ordered)
    ]
    absent = [f'"{word}"' for word in ordered if word.casefold() in _NOT_THERE]
    more = f", absent = [{', '.join(absent)}]" if absent else ""
    return f'{{ at = "{at}", scale = "words", words = [{", ".join(steps)}]{more} }}'


_NOT_THERE = ("absent", "none", "no", "not there", "not present", "nothing", "negative")
"""Words that can only mean that something is not there."""


def _points_of(objects: Sequence[Mapping[str, Any]]) -> str:
    for name in _POINT_NAMES:
        for own in objects[0]:
            if own.lower() != name:
                continue
            value = next((o[own] for o in objects if o.get(own)), None)
            if isinstance(value, list) and value and isinstance(value[0], dict):
                names = [k for k, v in value[0].items() if isinstance(v, str)]
                if names and {"x", "y"} <= value[0].keys():
                    return f'{{ at = "{own}", name = "{names[0]}" }}'
            if isinstance(value, dict) and value and all(is_xy(v) for v in value.values()):
                return f'{{ at = "{own}" }}'
    return ""


def _attributes_of(
    objects: Sequence[Mapping[str, Any]], label: str, confidence: str, boxes: Sequence[BoxGuess]
) -> dict[str, tuple[str, str]]:
    """Return what is neither label, confidence nor place: flags, numbers, choices."""
    used = {label, *re.findall(r'at = "([^"]+)"', confidence)}
    used |= {
        part.split(".")[0] for guess in boxes[:1] for part in (guess.at, *guess.fields.values())
    }
    found: dict[str, tuple[str, str]] = {}
    for name, value in objects[0].items():
        if name in used or name.lower() in (*_PARENT_NAMES, *_POINT_NAMES):
            continue
        if isinstance(value, bool):
            found[name] = (name, "flag")
        elif isinstance(value, dict) and isinstance(value.get("value"), bool):
            found[name] = (f"{name}.value", "flag")
        elif is_number(value) and name not in ("id", "index"):
            found[name] = (name, "number")
    return found


def described_draft(made: Draft, *, name: str, address: str) -> str:
    """Return a whole description around a draft, which ``try`` accepts once the key is said."""
    kinds = ", ".join(f'"{kind}"' for kind in dict.fromkeys(rule.kind for rule in made.rules))
    several, key = "images" in made.envelope, made.envelope.get("id", "id")
    images = (
        'body = "json"\nimage_field = "images"  # where the list of images goes\n'
        f'images = 2\neach = {{ {key} = "{{id}}", data = "{{image}}" }}\n'
        if several
        else 'body = "raw"  # or multipart, json, address\n'
    )
    return f"""# Drafted from sample answers; every guess says why. The rest is in docs/sending.md.
schema = 1
service = "{name}"

[connect]
address = "{address}"

[connect.key]
place = "none"  # header, query, basic, bearer, token; with name and sources

[[call]]
name = "look"
kinds = [{kinds}]
path = "/"
{images}
{made.toml()}"""


def read_samples(
    text: str, answers: Sequence[bytes], sizes: Sequence[tuple[float, float]] = ()
) -> list[Reading]:
    """Return what a description reads out of raw answers; an unreadable one gives no finding."""
    described = parse_description(text, name="the draft")
    reader, kinds = Reader(described), described.kinds
    known = list(sizes) or [(1000.0, 1000.0)] * len(answers)
    readings: list[Reading] = []
    for answer, (width, height) in zip(answers, known, strict=True):
        frame = Frame(int(width), int(height), int(width), int(height))
        parts = reader.read(answer, described.call[0].name, kinds, [frame])
        readings += [part if isinstance(part, Reading) else Reading() for part in parts]
    return readings
